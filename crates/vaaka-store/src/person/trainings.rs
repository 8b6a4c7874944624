//! Who is trained for which method, and until when.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use jiff::civil::Date;
use serde_json::json;
use vaaka_boxed::boxed;

use crate::StoreError;
use crate::audit::{self, Happening};
use crate::ids::PersonId;
use crate::rows::{Person, Training};
use crate::schema::{people, trainings};

/// The newest training of each person and method, with the person; active people only.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn newest(
    connection: &mut AsyncPgConnection,
) -> Result<Vec<(Training, Person)>, StoreError> {
    Ok(trainings::table
        .inner_join(people::table.on(people::id.eq(trainings::person_id)))
        .filter(people::active)
        .distinct_on((trainings::person_id, trainings::method_key))
        .order((trainings::person_id, trainings::method_key, trainings::id.desc()))
        .select((Training::as_select(), Person::as_select()))
        .load(connection)
        .await?)
}

/// The last valid day of a person's newest training in a method, and the names of others whose
/// training holds on `today`.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn for_method(
    connection: &mut AsyncPgConnection,
    person: PersonId,
    method: &str,
    today: Date,
) -> Result<(Option<Date>, Vec<String>), StoreError> {
    let mut own = None;
    let mut others = Vec::new();
    for (training, who) in newest(connection).await? {
        if training.method_key != method {
            continue;
        }
        if who.id == person {
            own = Some(training.valid_until.0);
        } else if training.valid_until.0 >= today {
            others.push(who.name);
        }
    }
    others.sort();
    Ok((own, others))
}

/// Records a training, or ends one by a last day in the past.
///
/// # Errors
/// [`StoreError::Conflict`] when somebody records their own.
#[boxed]
pub async fn record(
    connection: &mut AsyncPgConnection,
    training: &Training,
) -> Result<(), StoreError> {
    connection
        .transaction(async |connection| {
            let chain = format!("person:{}", training.person_id);
            audit::hold(connection, &chain).await?;
            diesel::insert_into(trainings::table).values(training).execute(connection).await?;
            audit::record(
                connection,
                &Happening {
                    chain: &chain,
                    at: training.at.0,
                    person: Some(training.recorded_by),
                    action: "training_recorded",
                    detail: json!({
                        "method": training.method_key,
                        "trained_on": training.trained_on.0.to_string(),
                        "valid_until": training.valid_until.0.to_string(),
                        "note": training.note,
                    }),
                },
            )
            .await
        })
        .await
}
