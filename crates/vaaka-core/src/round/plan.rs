//! The working order of a round for one pair of hands.

use jiff::{SignedDuration, Timestamp};

/// What a task still wants in this shift; the order is that of urgency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Due {
    /// Begun and not finished.
    Open,
    /// A failed check wants its one repeat.
    Repeat,
    /// Not begun.
    Due,
    /// Done, or waiting for a lead: nothing to do on this round.
    Nothing,
}

/// One check of the round.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoundTask<Id> {
    /// What it is.
    pub id: Id,
    /// Where the area lies on the walk.
    pub area_order: i32,
    /// Tag of the standard it needs.
    pub standard: String,
    /// Tag of the instrument.
    pub instrument: String,
    /// How long hands are busy with it.
    pub minutes: i64,
    /// What it wants.
    pub due: Due,
}

/// A task with its place in time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scheduled<Id> {
    /// What it is.
    pub id: Id,
    /// When hands come free for it.
    pub starts_at: Timestamp,
    /// When it will be done.
    pub ends_at: Timestamp,
}

/// The round in working order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RoundPlan<Id> {
    /// What is still to do, in order.
    pub to_do: Vec<Scheduled<Id>>,
    /// When the last of it will be done, if anything is to do.
    pub done_by: Option<Timestamp>,
}

/// Orders the tasks: what is open first, then a repeat that keeps an instrument out of use, then
/// along the walk, tasks on the same standard together so that a set of weights is fetched once.
#[must_use]
pub fn plan_round<Id: Clone>(tasks: &[RoundTask<Id>], now: Timestamp) -> RoundPlan<Id> {
    let mut order: Vec<&RoundTask<Id>> =
        tasks.iter().filter(|task| task.due != Due::Nothing).collect();
    order.sort_by(|a, b| {
        let key = |task: &RoundTask<Id>| (task.due, task.area_order);
        key(a)
            .cmp(&key(b))
            .then_with(|| a.standard.cmp(&b.standard))
            .then_with(|| a.instrument.cmp(&b.instrument))
    });
    let mut at = now;
    let to_do: Vec<Scheduled<Id>> = order
        .into_iter()
        .map(|task| {
            let starts_at = at;
            at = at.checked_add(SignedDuration::from_mins(task.minutes)).unwrap_or(at);
            Scheduled { id: task.id.clone(), starts_at, ends_at: at }
        })
        .collect();
    let done_by = to_do.last().map(|last| last.ends_at);
    RoundPlan { to_do, done_by }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn task(id: &str, area: i32, standard: &str, due: Due) -> RoundTask<String> {
        RoundTask {
            id: id.into(),
            area_order: area,
            standard: standard.into(),
            instrument: id.into(),
            minutes: 5,
            due,
        }
    }

    #[test]
    fn open_then_repeat_then_along_the_walk_with_shared_standards_together() {
        let tasks = [
            task("a", 2, "M1-B", Due::Due),
            task("b", 1, "M1-B", Due::Due),
            task("c", 1, "F2-A", Due::Due),
            task("d", 1, "M1-B", Due::Due),
            task("e", 3, "M1-A", Due::Repeat),
            task("f", 4, "M1-A", Due::Open),
            task("g", 1, "M1-A", Due::Nothing),
        ];
        let now: Timestamp = "2026-11-24T20:34:00Z".parse().unwrap();
        let plan = plan_round(&tasks, now);
        let order: Vec<&str> = plan.to_do.iter().map(|item| item.id.as_str()).collect();
        assert_eq!(order, ["f", "e", "c", "b", "d", "a"]);
        assert_eq!(plan.done_by.unwrap().to_string(), "2026-11-24T21:04:00Z");
        assert!(plan.to_do.windows(2).all(|pair| pair[0].ends_at == pair[1].starts_at));
    }

    #[test]
    fn nothing_to_do_has_no_end() {
        let plan = plan_round(&[task("a", 1, "M1-A", Due::Nothing)], Timestamp::UNIX_EPOCH);
        assert_eq!((plan.to_do.len(), plan.done_by), (0, None));
    }
}
