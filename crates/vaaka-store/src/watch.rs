//! What a monitor of the installation asks: whether work piles up, whether mail leaves, whether the trail is sealed.

use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Double, Nullable, Text};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use vaaka_boxed::boxed;

use crate::StoreError;

/// How an installation stands.
#[derive(Debug, Clone, PartialEq, QueryableByName)]
pub struct Standing {
    /// Checks that somebody has in hand.
    #[diesel(sql_type = BigInt)]
    pub open_checks: i64,
    /// Long work that waits or is being done.
    #[diesel(sql_type = BigInt)]
    pub jobs_waiting: i64,
    /// Long work that was given up after several tries.
    #[diesel(sql_type = BigInt)]
    pub jobs_failed: i64,
    /// Mails that have not left.
    #[diesel(sql_type = BigInt)]
    pub mails_waiting: i64,
    /// Those of them that were refused at least once.
    #[diesel(sql_type = BigInt)]
    pub mails_refused: i64,
    /// When the trail was sealed last, in seconds since 1970; none before the first seal.
    #[diesel(sql_type = Nullable<Double>)]
    pub sealed_at: Option<f64>,
}

/// Instruments in a state.
#[derive(Debug, Clone, PartialEq, Eq, QueryableByName)]
pub struct InState {
    /// The state.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// How many.
    #[diesel(sql_type = BigInt)]
    pub instruments: i64,
}

/// Asks how the installation stands.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn standing(
    connection: &mut AsyncPgConnection,
) -> Result<(Standing, Vec<InState>), StoreError> {
    let standing = diesel::sql_query(
        "SELECT (SELECT count(*) FROM checks WHERE state = 'open') AS open_checks,
             (SELECT count(*) FROM jobs WHERE state IN ('waiting', 'running')) AS jobs_waiting,
             (SELECT count(*) FROM jobs WHERE state = 'failed') AS jobs_failed,
             (SELECT count(*) FROM mails WHERE sent_at IS NULL) AS mails_waiting,
             (SELECT count(*) FROM mails WHERE sent_at IS NULL AND attempts > 0) AS mails_refused,
             (SELECT extract(epoch FROM max(at))::float8 FROM audit_seals) AS sealed_at",
    )
    .get_result(connection)
    .await?;
    let states = diesel::sql_query(
        "SELECT state, count(*) AS instruments FROM instruments GROUP BY state ORDER BY state",
    )
    .load(connection)
    .await?;
    Ok((standing, states))
}
