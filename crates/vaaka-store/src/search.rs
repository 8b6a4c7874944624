//! Finding records: by instrument, standard or lot, person, date and verdict.

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::ids::CheckId;
use crate::schema::{
    certificates, checks, instruments, people, plan_versions, plans, results, standard_lots,
    standards,
};
use crate::types::At;

/// What is looked for; empty parts match everything.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Part of an instrument's tag.
    pub tag: String,
    /// Part of a standard's tag, of a lot or of a certificate's number.
    pub standard: String,
    /// Part of the name of who opened or closed it.
    pub person: String,
    /// Opened at this moment or later.
    pub from: Option<Timestamp>,
    /// Opened before this moment.
    pub until: Option<Timestamp>,
    /// "pass", "fail", "doubtful", "void", "open", "signal" or empty.
    pub verdict: String,
}

/// A record that was found.
#[derive(Debug, Clone, Queryable)]
#[allow(missing_docs)] // The columns say what they are.
pub struct Found {
    pub id: CheckId,
    pub tag: String,
    pub instrument: String,
    pub plan: String,
    pub purpose: String,
    pub state: String,
    pub opened_at: At,
    pub closed_at: Option<At>,
    pub person: Option<String>,
    pub standard: String,
    pub lot: String,
    pub certificate: String,
    pub conforms: Option<String>,
    pub control: Option<String>,
    pub repeat_state: Option<String>,
    pub void_reason: Option<String>,
    pub paper: bool,
}

fn part(text: &str) -> String {
    format!("%{}%", literally(text))
}

/// What was typed, as a pattern of LIKE that stands for nothing but itself.
pub(crate) fn literally(text: &str) -> String {
    text.trim().replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
}

/// The newest records that fit, at most `most`.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn find(
    connection: &mut AsyncPgConnection,
    wanted: &Wanted,
    most: i64,
) -> Result<Vec<Found>, StoreError> {
    let newest = diesel::dsl::sql::<diesel::sql_types::Bool>(
        "results.version = (SELECT max(n.version) FROM results n WHERE n.check_id = checks.id)",
    );
    // The words of the index that is made for this order alone: one on the bare column would tempt the planner to look
    // for the newest checks of one plan among all there are.
    let by_moment = diesel::dsl::sql::<diesel::sql_types::Timestamp>(
        "(checks.opened_at AT TIME ZONE 'UTC') DESC",
    );
    let mut query = checks::table
        .inner_join(instruments::table)
        .inner_join(plan_versions::table.inner_join(plans::table))
        .inner_join(
            certificates::table.inner_join(standard_lots::table.inner_join(standards::table)),
        )
        .left_join(people::table.on(people::id.nullable().eq(checks::closed_by)))
        .left_join(results::table.on(results::check_id.eq(checks::id).and(newest)))
        .order((by_moment, checks::id.desc()))
        .limit(most)
        .select((
            checks::id,
            instruments::tag,
            instruments::name,
            plans::name,
            checks::purpose,
            checks::state,
            checks::opened_at,
            checks::closed_at,
            people::name.nullable(),
            standards::tag,
            standard_lots::lot,
            certificates::number,
            results::conforms.nullable(),
            results::control.nullable(),
            results::repeat_state.nullable(),
            checks::void_reason,
            checks::late_reason.is_not_null(),
        ))
        .into_boxed();
    if !wanted.tag.trim().is_empty() {
        query = query.filter(instruments::tag.ilike(part(&wanted.tag)));
    }
    if !wanted.standard.trim().is_empty() {
        let like = part(&wanted.standard);
        query = query.filter(
            standards::tag
                .ilike(like.clone())
                .or(standard_lots::lot.ilike(like.clone()))
                .or(certificates::number.ilike(like)),
        );
    }
    if !wanted.person.trim().is_empty() {
        query = query.filter(people::name.ilike(part(&wanted.person)));
    }
    if let Some(from) = wanted.from {
        query = query.filter(checks::opened_at.ge(At(from)));
    }
    if let Some(until) = wanted.until {
        query = query.filter(checks::opened_at.lt(At(until)));
    }
    query = match wanted.verdict.as_str() {
        "pass" => query
            .filter(checks::state.eq("concluded"))
            .filter(results::conforms.eq("pass"))
            .filter(results::repeat_state.ne("doubtful")),
        "fail" => query.filter(checks::state.eq("concluded")).filter(results::conforms.eq("fail")),
        "doubtful" => {
            query.filter(checks::state.eq("concluded")).filter(results::repeat_state.eq("doubtful"))
        }
        "signal" => {
            query.filter(checks::state.eq("concluded")).filter(results::control.eq("signal"))
        }
        "void" => query.filter(checks::state.eq("void")),
        "open" => query.filter(checks::state.eq("open")),
        _ => query,
    };
    Ok(query.load(connection).await?)
}
