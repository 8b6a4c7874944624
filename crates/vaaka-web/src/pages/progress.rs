//! How far long work is that goes on beside the requests, for any page that asked for it.

use vaaka_store::jobs::Job;

/// What a page shows of it; drawn by `progress.html`.
#[derive(Debug)]
pub(in crate::pages) struct Progress {
    /// Mark of its state.
    pub state: &'static str,
    pub words: String,
    /// Share done, for the bar.
    pub done: i32,
    pub total: i32,
    pub goes_on: bool,
    /// Where a form lets it be tried again; none where it need not be, or this person may not.
    pub again: Option<String>,
}

/// What the pieces of a job are, and what is said at its end.
#[derive(Debug, Clone, Copy)]
pub(in crate::pages) struct Pieces {
    /// "checks are evaluated again", after "3 of 12".
    pub so_far: &'static str,
    /// After the pieces, while it goes on.
    pub meanwhile: &'static str,
    /// Instead of all of it, at the end.
    pub at_the_end: &'static str,
}

impl Progress {
    /// Of a job; `again` is where a form lets it be tried again.
    pub(in crate::pages) fn of(job: &Job, pieces: Pieces, again: Option<String>) -> Self {
        let (done, total) = (job.done, job.total);
        let so_far = format!("{done} of {total} {}", pieces.so_far);
        let (state, words) = match (job.state.as_str(), &job.trouble) {
            ("done", _) => ("ok", pieces.at_the_end.replace("{total}", &total.to_string())),
            ("failed", trouble) => (
                "out",
                format!(
                    "{so_far}; then it did not go on: {}. What was done stands. Tell whoever looks after this server, then let it be tried again.",
                    trouble.as_deref().unwrap_or("no reason is known")
                ),
            ),
            (_, Some(trouble)) => (
                "signal",
                format!("{so_far}; the last part went wrong ({trouble}) and is tried again."),
            ),
            _ => ("due", format!("{so_far}. {}", pieces.meanwhile)),
        };
        let again = again.filter(|_| job.state == "failed");
        Self { state, words, done, total, goes_on: job.is_open(), again }
    }
}
