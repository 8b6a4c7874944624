//! A result computed again from the readings, plan and certificates that are stored: what verification holds it against.

use std::collections::HashMap;
use std::sync::Arc;

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use vaaka_boxed::boxed;
use vaaka_core::judgement::Characteristic;
use vaaka_core::method::{self, PlanSpec, Purpose};

use crate::ids::{CertificateId, CheckId, PlanVersionId};
use crate::outcomes::inputs_hash;
use crate::plans::{self, PlanView};
use crate::rows::{Check, ResultRow};
use crate::schema::{audit_entries, checks, results};
use crate::{StoreError, audit, checks as check_store, word};

/// What became of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// There is no result.
    None,
    /// It is the same.
    Same,
    /// What is another one.
    Other(String),
}

type Key = (PlanVersionId, Vec<CertificateId>, Purpose);

/// Plans that were read already.
#[derive(Debug, Default)]
pub struct Memory {
    plans: HashMap<Key, Arc<(PlanView, PlanSpec)>>,
}

/// Computes the newest result of a check again.
///
/// # Errors
/// [`StoreError`] of the database; what cannot be computed any more is an outcome.
#[boxed]
pub async fn result(
    connection: &mut AsyncPgConnection,
    id: CheckId,
    memory: &mut Memory,
) -> Result<Outcome, StoreError> {
    let check: Check = checks::table.find(id).select(Check::as_select()).first(connection).await?;
    let row: Option<ResultRow> = results::table
        .filter(results::check_id.eq(id))
        .order(results::version.desc())
        .select(ResultRow::as_select())
        .first(connection)
        .await
        .optional()?;
    let Some(row) = row else { return Ok(Outcome::None) };
    let certificates = certificates_of(connection, &check, row.version).await?;
    let purpose: Purpose = word(&check.purpose)?;
    let key = (row.plan_version_id, certificates.clone(), purpose);
    let read = match memory.plans.get(&key) {
        Some(known) => Arc::clone(known),
        None => {
            let view = plans::version(connection, row.plan_version_id).await?;
            let Ok(spec) = plans::spec(connection, &view, &certificates, purpose).await else {
                return Ok(Outcome::Other("its plan".to_owned()));
            };
            let read = Arc::new((view, spec));
            memory.plans.insert(key, Arc::clone(&read));
            read
        }
    };
    let (view, spec) = &*read;
    let method = method::by_key(&view.plan.method_key)?;
    let Ok(run) = crate::entries::entries(connection, id).await?.run_state() else {
        return Ok(Outcome::Other("a reading".to_owned()));
    };
    if inputs_hash(spec, &run)? != row.inputs_hash {
        return Ok(Outcome::Other("the fingerprint of its inputs".to_owned()));
    }
    let Ok(computed) = method.evaluate(spec, &run) else {
        return Ok(Outcome::Other("its result".to_owned()));
    };
    let Some(stored) = crate::outcomes::result_of(connection, id).await? else {
        return Ok(Outcome::Other("its result".to_owned()));
    };
    let kept: Vec<&Characteristic> = stored.results.iter().map(|(kept, _)| kept).collect();
    if kept.len() != computed.len() {
        return Ok(Outcome::Other("the number of its characteristics".to_owned()));
    }
    for one in &computed {
        let same = kept.iter().any(|kept| {
            kept.key == one.key
                && kept.singles == one.singles
                && kept.limits == one.limits
                && kept.single_limits == one.single_limits
                && kept.reference_value == one.reference_value
        });
        if !same {
            return Ok(Outcome::Other(one.label.to_lowercase()));
        }
    }
    if crate::to_word(&stored.verdict.conforms)? != row.conforms {
        return Ok(Outcome::Other("its verdict".to_owned()));
    }
    Ok(Outcome::Same)
}

/// The certificates that a version of a result rests on: those of the check, as far as amendments put others in their
/// place.
async fn certificates_of(
    connection: &mut AsyncPgConnection,
    check: &Check,
    version: i32,
) -> Result<Vec<CertificateId>, StoreError> {
    let mut used = check_store::certificates_of(connection, check).await?;
    if version == 1 {
        return Ok(used);
    }
    let details: Vec<serde_json::Value> = audit_entries::table
        .filter(audit_entries::chain.eq(audit::chain(check.id)))
        .filter(audit_entries::action.eq("check_amended"))
        .order(audit_entries::sequence)
        .select(audit_entries::detail)
        .load(connection)
        .await?;
    for detail in details {
        let of =
            |name: &str| detail.get(name).and_then(serde_json::Value::as_i64).map(CertificateId);
        if let Some((from, to)) = of("from").zip(of("to")) {
            for own in used.iter_mut().filter(|own| **own == from) {
                *own = to;
            }
        }
    }
    Ok(used)
}
