//! What people are told: in the application at once, and by mail through an outbox that is emptied
//! after the transaction that wrote it is in.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::{CheckId, InstrumentId, MailId, NoticeId, PersonId, SetUpId};
use crate::schema::{checks, mails, notices, people, plan_versions, plans, set_ups};
use crate::types::At;

/// A notice as it is written.
#[derive(Debug, Clone, Copy)]
pub struct NewNotice<'a> {
    /// A stable word.
    pub kind: &'static str,
    /// Instrument.
    pub instrument: Option<InstrumentId>,
    /// Check.
    pub check: Option<CheckId>,
    /// A line.
    pub title: &'a str,
    /// A sentence or two.
    pub words: &'a str,
    /// Where to look, a path of the application.
    pub path: &'a str,
    /// When.
    pub at: Timestamp,
}

/// Tells the leads: one notice for all, and a mail to each who has an address.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn tell_leads(
    connection: &mut AsyncPgConnection,
    new: &NewNotice<'_>,
) -> Result<NoticeId, StoreError> {
    let id: NoticeId = diesel::insert_into(notices::table)
        .values((
            notices::kind.eq(new.kind),
            notices::instrument_id.eq(new.instrument),
            notices::check_id.eq(new.check),
            notices::title.eq(new.title),
            notices::words.eq(new.words),
            notices::path.eq(new.path),
            notices::at.eq(At(new.at)),
        ))
        .returning(notices::id)
        .get_result(connection)
        .await?;
    let leads: Vec<(PersonId, String)> = people::table
        .filter(people::role.eq("lead"))
        .filter(people::active)
        .filter(people::email.ne(""))
        .order(people::id)
        .select((people::id, people::email))
        .load(connection)
        .await?;
    let rows: Vec<_> = leads
        .into_iter()
        .map(|(person, email)| {
            (
                mails::notice_id.eq(id),
                mails::person_id.eq(person),
                mails::recipient.eq(email),
                mails::subject.eq(new.title),
                mails::body.eq(format!("{}\n\nIn Vaaka: {}\n", new.words, new.path)),
                mails::queued_at.eq(At(new.at)),
                mails::next_attempt_at.eq(At(new.at)),
            )
        })
        .collect();
    diesel::insert_into(mails::table).values(rows).execute(connection).await?;
    Ok(id)
}

/// A notice with who took it up.
#[derive(Debug, Clone, Queryable)]
pub struct Notice {
    /// Its id.
    pub id: NoticeId,
    /// A stable word.
    pub kind: String,
    /// A line.
    pub title: String,
    /// A sentence or two.
    pub words: String,
    /// Where to look.
    pub path: String,
    /// When.
    pub at: At,
    /// Who took it up, and when.
    pub taken_at: Option<At>,
    /// Name of who took it up.
    pub taken_by: Option<String>,
}

/// The newest notices, those that nobody took up yet first.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(
    connection: &mut AsyncPgConnection,
    count: i64,
) -> Result<Vec<Notice>, StoreError> {
    Ok(notices::table
        .left_join(people::table.on(people::id.nullable().eq(notices::taken_by)))
        .order((notices::taken_at.is_not_null(), notices::id.desc()))
        .limit(count)
        .select((
            notices::id,
            notices::kind,
            notices::title,
            notices::words,
            notices::path,
            notices::at,
            notices::taken_at,
            people::name.nullable(),
        ))
        .load(connection)
        .await?)
}

/// How many notices nobody took up yet.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn waiting(mut connection: &AsyncPgConnection) -> Result<i64, StoreError> {
    Ok(notices::table
        .filter(notices::taken_by.is_null())
        .count()
        .get_result(&mut connection)
        .await?)
}

/// Takes a notice up, with its audit entry; of two leads who do so at one moment, the first is kept
/// and only that is on record.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn take_up(
    connection: &mut AsyncPgConnection,
    id: NoticeId,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let taken: Option<String> = diesel::update(notices::table.find(id))
                .filter(notices::taken_by.is_null())
                .set((notices::taken_by.eq(person), notices::taken_at.eq(At(at))))
                .returning(notices::title)
                .get_result(connection)
                .await
                .optional()?;
            let Some(title) = taken else { return Ok(()) };
            let happening = Happening {
                chain: &format!("notice:{id}"),
                at,
                person: Some(person),
                action: "notice_taken_up",
                detail: json!({ "title": title }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Which notices are over.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Over<'a> {
    /// Those of a kind that lead to a place: nobody has to come for it any more.
    At(&'a str, &'a str),
    /// What failing checks of an instrument, or of one of its cells, have told: a lead has decided about it.
    FailuresOf(InstrumentId, Option<SetUpId>),
    /// What a check has told: it is void.
    Of(CheckId),
}

/// What a check tells the leads beside: it goes with the check, and stays when a lead decides about a failure.
const OF_CHECKS: [&str; 5] = ["failed", "confirmed", "doubtful", "as_left_failed", "drifting"];
/// What a failing check tells the leads.
const OF_FAILURES: [&str; 4] = ["failed", "confirmed", "doubtful", "as_left_failed"];

/// Ends notices that nobody has taken up, in the name of whose decision ended their matter.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn end(
    connection: &mut AsyncPgConnection,
    over: Over<'_>,
    person: PersonId,
    at: Timestamp,
) -> Result<(), StoreError> {
    let open = notices::table.filter(notices::taken_by.is_null()).select(notices::id);
    let open = match over {
        Over::At(kind, path) => {
            open.filter(notices::kind.eq(kind)).filter(notices::path.eq(path)).into_boxed()
        }
        Over::FailuresOf(instrument, cell) => {
            let own = open
                .filter(notices::instrument_id.eq(instrument))
                .filter(notices::kind.eq_any(OF_FAILURES))
                .into_boxed();
            // Of the whole instrument: not those of cells that are still restricted or on hold by themselves.
            let of_cells = checks::table
                .inner_join(
                    plan_versions::table.inner_join(plans::table.inner_join(set_ups::table)),
                )
                .filter(checks::instrument_id.eq(instrument))
                .select(checks::id.nullable())
                .into_boxed();
            let ended = match cell {
                None => of_cells.filter(set_ups::state.eq("in_service")),
                Some(cell) => of_cells.filter(set_ups::id.eq(cell)),
            };
            own.filter(notices::check_id.is_null().or(notices::check_id.eq_any(ended)))
        }
        Over::Of(check) => open
            .filter(notices::check_id.eq(check))
            .filter(notices::kind.eq_any(OF_CHECKS))
            .into_boxed(),
    };
    let ids: Vec<NoticeId> = open.load(connection).await?;
    if ids.is_empty() {
        return Ok(());
    }
    let still = notices::table.filter(notices::id.eq_any(ids)).filter(notices::taken_by.is_null());
    diesel::update(still)
        .set((notices::taken_by.eq(person), notices::taken_at.eq(At(at))))
        .execute(connection)
        .await?;
    Ok(())
}

/// Whether nobody has taken up a notice of a kind that leads to a place.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub(crate) async fn is_open(
    connection: &mut AsyncPgConnection,
    kind: &str,
    path: &str,
) -> Result<bool, StoreError> {
    let open = notices::table
        .filter(notices::kind.eq(kind))
        .filter(notices::path.eq(path))
        .filter(notices::taken_by.is_null());
    Ok(diesel::select(diesel::dsl::exists(open)).get_result(connection).await?)
}

/// A mail of the outbox.
#[derive(Debug, Clone, Queryable)]
pub struct Mail {
    /// Its id.
    pub id: MailId,
    /// To whom.
    pub recipient: String,
    /// Subject.
    pub subject: String,
    /// Body.
    pub body: String,
    /// When it was written.
    pub queued_at: At,
    /// When it was handed over to the mail server.
    pub sent_at: Option<At>,
    /// How often that was tried.
    pub attempts: i32,
    /// What the server said last.
    pub last_error: Option<String>,
}

macro_rules! mail_columns {
    () => {
        (
            mails::id,
            mails::recipient,
            mails::subject,
            mails::body,
            mails::queued_at,
            mails::sent_at,
            mails::attempts,
            mails::last_error,
        )
    };
}

/// The newest mails, sent or not.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn mails(
    connection: &mut AsyncPgConnection,
    count: i64,
) -> Result<Vec<Mail>, StoreError> {
    Ok(mails::table
        .order(mails::id.desc())
        .limit(count)
        .select(mail_columns!())
        .load(connection)
        .await?)
}

/// Takes a few unsent mails for sending, which no other process has in hand; call inside a
/// transaction that lasts until they are marked.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn unsent(
    connection: &mut AsyncPgConnection,
    now: Timestamp,
    count: i64,
) -> Result<Vec<Mail>, StoreError> {
    Ok(mails::table
        .filter(mails::sent_at.is_null())
        .filter(mails::next_attempt_at.le(At(now)))
        .order(mails::id)
        .limit(count)
        .for_update()
        .skip_locked()
        .select(mail_columns!())
        .load(connection)
        .await?)
}

/// Marks what came of sending: a failure is tried again after a minute, then two, at most an hour.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn mark(
    connection: &mut AsyncPgConnection,
    mail: &Mail,
    outcome: Result<(), String>,
    now: Timestamp,
) -> Result<(), StoreError> {
    let attempts = mail.attempts + 1;
    let row = diesel::update(mails::table.find(mail.id));
    match outcome {
        Ok(()) => {
            row.set((
                mails::sent_at.eq(At(now)),
                mails::attempts.eq(attempts),
                mails::last_error.eq(None::<String>),
            ))
            .execute(connection)
            .await?;
        }
        Err(words) => {
            let minutes = 1_i64 << mail.attempts.clamp(0, 6);
            let next = now.checked_add(SignedDuration::from_mins(minutes.min(60))).unwrap_or(now);
            row.set((
                mails::attempts.eq(attempts),
                mails::last_error.eq(words.chars().take(300).collect::<String>()),
                mails::next_attempt_at.eq(At(next)),
            ))
            .execute(connection)
            .await?;
        }
    }
    Ok(())
}
