//! Passwords that were typed: how many were wrong lately, for whoever tries many.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::PersonId;
use crate::schema::sign_in_attempts;
use crate::types::At;

/// Wrong passwords lately, and when the newest was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, QueryableByName)]
pub struct Failures {
    /// Of this account, since its last right one.
    #[diesel(sql_type = BigInt)]
    pub of_account: i64,
    /// When.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub account_at: Option<At>,
    /// From this address, whatever the account.
    #[diesel(sql_type = BigInt)]
    pub of_address: i64,
    /// When.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub address_at: Option<At>,
}

/// How far back wrong passwords are counted.
const WINDOW_MINUTES: i64 = 60;
/// How long they are kept.
const KEPT_DAYS: i64 = 30;

/// Wrong passwords of an account and from an address in the last hour before `now`, by the clock of the machine.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn failures(
    connection: &mut AsyncPgConnection,
    sign_in: &str,
    address: &str,
    now: Timestamp,
) -> Result<Failures, StoreError> {
    let since = now - SignedDuration::from_mins(WINDOW_MINUTES);
    Ok(diesel::sql_query(
        "SELECT a.n AS of_account, a.newest AS account_at, b.n AS of_address, b.newest AS address_at
         FROM (SELECT count(*) AS n, max(at) AS newest FROM sign_in_attempts
               WHERE sign_in = $1 AND NOT fits AND at > greatest($3, (SELECT max(at)
                   FROM sign_in_attempts WHERE sign_in = $1 AND fits))) a,
              (SELECT count(*) AS n, max(at) AS newest FROM sign_in_attempts
               WHERE address = $2 AND NOT fits AND at > $3) b",
    )
    .bind::<Text, _>(sign_in)
    .bind::<Text, _>(address)
    .bind::<Timestamptz, _>(At(since))
    .get_result(connection)
    .await?)
}

/// A password that was typed.
#[derive(Debug, Clone, Copy)]
pub struct Typed<'a> {
    /// Sign-in name, as it is compared.
    pub sign_in: &'a str,
    /// Address that it came from.
    pub address: &'a str,
    /// Whose it is, if it is anybody's.
    pub person: Option<PersonId>,
    /// Whether it was right.
    pub fits: bool,
    /// What it was typed for.
    pub purpose: &'a str,
    /// The clock of the machine, by which attempts are counted.
    pub machine: Timestamp,
    /// The clock of the application, for the audit trail.
    pub now: Timestamp,
}

/// Notes a password that was typed; a wrong one stands in the audit trail.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn note(connection: &mut AsyncPgConnection, typed: Typed<'_>) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            diesel::insert_into(sign_in_attempts::table)
                .values((
                    sign_in_attempts::sign_in.eq(typed.sign_in),
                    sign_in_attempts::address.eq(typed.address),
                    sign_in_attempts::fits.eq(typed.fits),
                    sign_in_attempts::at.eq(At(typed.machine)),
                ))
                .execute(connection)
                .await?;
            if typed.fits {
                let old = typed.machine - SignedDuration::from_hours(24 * KEPT_DAYS);
                diesel::delete(sign_in_attempts::table.filter(sign_in_attempts::at.lt(At(old))))
                    .execute(connection)
                    .await?;
                return Ok(());
            }
            const CHAIN: &str = "sign-ins";
            audit::hold(connection, CHAIN).await?;
            let happening = Happening {
                chain: CHAIN,
                at: typed.now,
                person: None,
                action: "password_wrong",
                detail: json!({
                    "sign_in": typed.sign_in, "person": typed.person, "address": typed.address,
                    "for": typed.purpose,
                }),
            };
            audit::record(connection, &happening).await
        })
        .await
}

/// Notes that somebody signed in.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn signed_in(
    connection: &mut AsyncPgConnection,
    person: PersonId,
    now: Timestamp,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            // Eight sign-ins of one person at one moment follow each other in the chain.
            let chain = format!("person:{person}");
            audit::hold(connection, &chain).await?;
            let happening = Happening {
                chain: &chain,
                at: now,
                person: Some(person),
                action: "signed_in",
                detail: json!({}),
            };
            audit::record(connection, &happening).await
        })
        .await
}
