//! Results of checks: what they rest on, how they lie in the tables, and how they are read back.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use jiff::Timestamp;
use rust_decimal::Decimal;
use sha2::{Digest, Sha256};
use vaaka_boxed::boxed;
use vaaka_core::check::Completion;
use vaaka_core::judgement::{
    Budget, Characteristic, Conformity, ConformityResult, Contribution, ContributionSource,
    Control, Coverage, GuardBand, GuardBasis, ToleranceLimits, Verdict,
    effective_degrees_of_freedom,
};
use vaaka_core::method::{EntryValue, Method, PlanSpec, RunState};

use crate::ids::{CheckId, PersonId, ResultId};
use crate::rows::{BudgetRow, CharacteristicRow, Check, ResultRow};
use crate::schema::{budgets, characteristics, results};
use crate::types::At;
use crate::{StoreError, to_word, unreadable, word};

/// What a result rests on.
#[derive(Clone, Copy)]
pub struct Basis<'a> {
    /// Its id.
    pub result: ResultId,
    /// The check.
    pub check: &'a Check,
    /// The method.
    pub method: &'a dyn Method,
    /// The plan with the certified values used.
    pub plan: &'a PlanSpec,
    /// The entries that stood.
    pub run: &'a RunState,
    /// What came of it.
    pub completion: &'a Completion,
    /// Who concluded.
    pub person: PersonId,
    /// When.
    pub now: Timestamp,
    /// Version of the result.
    pub version: i32,
}

/// The row of a result.
///
/// # Errors
/// [`StoreError::Unreadable`] when something does not serialise.
pub fn result_row(basis: &Basis<'_>) -> Result<ResultRow, StoreError> {
    let verdict = &basis.completion.verdict;
    Ok(ResultRow {
        id: basis.result,
        check_id: basis.check.id,
        version: basis.version,
        plan_version_id: basis.check.plan_version_id,
        certificate_id: basis.check.certificate_id,
        method_key: basis.method.key().to_owned(),
        method_version: basis.method.version(),
        table_edition: basis.method.table_edition().to_owned(),
        inputs_hash: inputs_hash(basis.plan, basis.run)?,
        conforms: to_word(&verdict.conforms)?,
        control: control_word(&verdict.control).to_owned(),
        action: to_word(&verdict.action)?,
        repeat_state: to_word(&verdict.repeat)?,
        verdict: serde_json::to_value(verdict).map_err(unreadable)?,
        computed_at: At(basis.now),
        computed_by: basis.person,
    })
}

fn control_word(control: &Control) -> &'static str {
    match control {
        Control::NoBaseline { .. } => "no_baseline",
        Control::InControl => "in_control",
        Control::Signal { .. } => "signal",
        Control::NotCharted => "not_charted",
    }
}

fn bare_zero(value: Decimal) -> Decimal {
    if value.is_zero() { Decimal::ZERO } else { value }
}

/// SHA-256 over settings, certified values and entries: shows later that nothing was changed.
pub(crate) fn inputs_hash(plan: &PlanSpec, run: &RunState) -> Result<Vec<u8>, StoreError> {
    let mut digest = Sha256::new();
    digest.update(plan.settings.to_string());
    for point in &plan.points {
        digest.update(format!(
            "|{} {} {} {}",
            point.nominal,
            point.travel.word(),
            point.place.word(),
            point.repeats
        ));
        digest.update(serde_json::to_string(&point.pieces).map_err(unreadable)?);
    }
    for entry in &run.entries {
        // The database keeps no places of a zero, so that neither may this: "0.000" comes back as 0.
        let value = match &entry.value {
            EntryValue::Reading { indication, added, far_confirmed } => EntryValue::Reading {
                indication: bare_zero(*indication),
                added: added.map(bare_zero),
                far_confirmed: *far_confirmed,
            },
            EntryValue::Condition { value } => EntryValue::Condition { value: bare_zero(*value) },
            other => other.clone(),
        };
        let value = serde_json::to_string(&value).map_err(unreadable)?;
        digest.update(format!("|{} {} {value}", entry.step, entry.repeat));
    }
    Ok(digest.finalize().to_vec())
}

/// The rows of the characteristics of a result.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn characteristic_rows(
    result: ResultId,
    judged: &[(Characteristic, ConformityResult)],
) -> Result<Vec<CharacteristicRow>, StoreError> {
    judged
        .iter()
        .enumerate()
        .map(|(index, (characteristic, result_of))| {
            Ok(CharacteristicRow {
                result_id: result,
                sequence: i32::try_from(index + 1).map_err(unreadable)?,
                key: characteristic.key.clone(),
                label: characteristic.label.clone(),
                kind: to_word(&characteristic.kind)?,
                nominal: characteristic.nominal,
                unit: characteristic.unit.symbol().to_owned(),
                decimals: i32::try_from(characteristic.decimals).map_err(unreadable)?,
                singles: characteristic.singles.clone(),
                reference_value: characteristic.reference_value,
                lower_single_limit: characteristic.single_limits.and_then(|limits| limits.lower),
                upper_single_limit: characteristic.single_limits.and_then(|limits| limits.upper),
                lower_tolerance_limit: characteristic.limits.and_then(|limits| limits.lower),
                upper_tolerance_limit: characteristic.limits.and_then(|limits| limits.upper),
                reference_standard_uncertainty: characteristic.reference_standard_uncertainty(),
                reading_standard_uncertainty: characteristic.reading_standard_uncertainty(),
                indicative: characteristic.indicative,
                charted: characteristic.charted,
                conformity: to_word(&result_of.conformity)?,
                decision_rule: to_word(&result_of.rule)?,
                share_used: result_of.share_used,
                worst_single_share: result_of.worst_single_share,
                expanded_uncertainty: result_of.expanded_uncertainty(),
                coverage_factor: result_of.coverage_factor(),
                capability_index: result_of.capability_index,
                mean: characteristic.mean,
            })
        })
        .collect()
}

/// The rows of the budgets of a result.
///
/// # Errors
/// [`StoreError::Unreadable`].
pub fn budget_rows(
    result: ResultId,
    judged: &[(Characteristic, ConformityResult)],
) -> Result<Vec<BudgetRow>, StoreError> {
    judged
        .iter()
        .map(|(characteristic, of)| {
            let parts = &of.budget.contributions;
            Ok(BudgetRow {
                result_id: result,
                key: characteristic.key.clone(),
                sources: parts.iter().map(|part| part.source.word().to_owned()).collect(),
                labels: parts.iter().map(|part| part.label.clone()).collect(),
                standard_uncertainties: parts.iter().map(|p| p.standard_uncertainty).collect(),
                degrees_of_freedom: parts
                    .iter()
                    .map(|part| part.degrees_of_freedom.unwrap_or(f64::INFINITY))
                    .collect(),
                coverage: of.budget.coverage.word().to_owned(),
                statement: of.statement.map(|statement| statement.word().to_owned()),
                guard_band: of.guard_band.width,
                guard_basis: serde_json::to_value(of.guard_band.basis).map_err(unreadable)?,
                lower_acceptance_limit: of.acceptance.and_then(|limits| limits.lower),
                upper_acceptance_limit: of.acceptance.and_then(|limits| limits.upper),
                conformance_probability: of.conformance_probability,
                counted: Some(parts.iter().map(|part| part.counted).collect()),
                single_guard_band: of.guard_band.single_width,
            })
        })
        .collect()
}

/// A stored result with its characteristics, read back.
#[derive(Debug, Clone)]
pub struct StoredResult {
    /// The row.
    pub row: ResultRow,
    /// The verdict.
    pub verdict: Verdict,
    /// Characteristics with their judgement.
    pub results: Vec<(Characteristic, ConformityResult)>,
}

/// The newest result of a check.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn result_of(
    connection: &mut AsyncPgConnection,
    check: CheckId,
) -> Result<Option<StoredResult>, StoreError> {
    let row: Option<ResultRow> = results::table
        .filter(results::check_id.eq(check))
        .order(results::version.desc())
        .select(ResultRow::as_select())
        .first(connection)
        .await
        .optional()?;
    let Some(row) = row else { return Ok(None) };
    let found: Vec<CharacteristicRow> = characteristics::table
        .filter(characteristics::result_id.eq(row.id))
        .order(characteristics::sequence)
        .select(CharacteristicRow::as_select())
        .load(connection)
        .await?;
    let budgets: Vec<BudgetRow> = budgets::table
        .filter(budgets::result_id.eq(row.id))
        .select(BudgetRow::as_select())
        .load(connection)
        .await?;
    let mut budgets: HashMap<String, BudgetRow> =
        budgets.into_iter().map(|budget| (budget.key.clone(), budget)).collect();
    let verdict = serde_json::from_value(row.verdict.clone()).map_err(unreadable)?;
    let results = found
        .into_iter()
        .map(|row| {
            let budget = budgets.remove(&row.key);
            read_characteristic(row, budget)
        })
        .collect::<Result<_, _>>()?;
    Ok(Some(StoredResult { row, verdict, results }))
}

/// The newest verdict of a check with its row, without what it rests on.
///
/// # Errors
/// [`StoreError`].
#[boxed]
pub async fn verdict_of(
    mut connection: &AsyncPgConnection,
    check: CheckId,
) -> Result<Option<(ResultRow, Verdict)>, StoreError> {
    let row: Option<ResultRow> = results::table
        .filter(results::check_id.eq(check))
        .order(results::version.desc())
        .select(ResultRow::as_select())
        .first(&mut connection)
        .await
        .optional()?;
    let Some(row) = row else { return Ok(None) };
    let verdict = serde_json::from_value(row.verdict.clone()).map_err(unreadable)?;
    Ok(Some((row, verdict)))
}

/// The lines of a stored budget. A result from before budgets were kept has its two sums.
fn parts_of(
    row: &CharacteristicRow,
    budget: Option<&BudgetRow>,
) -> Result<Vec<Contribution>, StoreError> {
    let Some(budget) = budget else {
        return Ok(vec![
            Contribution::known(
                ContributionSource::Certificate,
                row.reference_standard_uncertainty,
            ),
            Contribution::known(ContributionSource::Resolution, row.reading_standard_uncertainty),
        ]);
    };
    let rest =
        budget.labels.iter().zip(&budget.standard_uncertainties).zip(&budget.degrees_of_freedom);
    budget
        .sources
        .iter()
        .zip(rest)
        .map(|(source, ((label, u), freedom))| {
            Ok(Contribution {
                label: label.clone(),
                degrees_of_freedom: Some(*freedom).filter(|freedom| freedom.is_finite()),
                ..Contribution::known(source.parse().map_err(unreadable)?, *u)
            })
        })
        .collect()
}

fn read_characteristic(
    row: CharacteristicRow,
    stored: Option<BudgetRow>,
) -> Result<(Characteristic, ConformityResult), StoreError> {
    let pair = |lower: Option<Decimal>, upper: Option<Decimal>| {
        (lower.is_some() || upper.is_some()).then_some(ToleranceLimits { lower, upper })
    };
    let conformity: Conformity = word(&row.conformity)?;
    let parts = parts_of(&row, stored.as_ref())?;
    let coverage = match &stored {
        Some(stored) => stored.coverage.parse().map_err(unreadable)?,
        None => Coverage::default(),
    };
    let mut budget = Budget::combine(parts.clone(), coverage);
    // What was stated is what is shown, whatever a newer program would combine.
    let counted = stored.as_ref().and_then(|stored| stored.counted.as_deref());
    if let Some(counted) = counted.filter(|one| one.len() == parts.len()) {
        budget.contributions = parts
            .iter()
            .zip(counted)
            .map(|(part, counted)| Contribution { counted: *counted, ..part.clone() })
            .collect();
        budget.combined_standard_uncertainty = budget
            .contributions
            .iter()
            .filter(|part| part.counted)
            .fold(0.0, |sum: f64, part| sum.hypot(part.standard_uncertainty));
        budget.degrees_of_freedom = effective_degrees_of_freedom(
            budget.combined_standard_uncertainty,
            budget
                .contributions
                .iter()
                .filter(|part| part.counted)
                .filter_map(|part| Some((part.standard_uncertainty, part.degrees_of_freedom?))),
        );
    }
    budget.coverage_factor = row.coverage_factor;
    budget.expanded_uncertainty = row.expanded_uncertainty;
    let guard_band = match &stored {
        Some(stored) => GuardBand {
            width: stored.guard_band,
            single_width: stored.single_guard_band,
            basis: serde_json::from_value(stored.guard_basis.clone()).map_err(unreadable)?,
        },
        None => GuardBand { width: 0.0, single_width: 0.0, basis: GuardBasis::Stated },
    };
    let acceptance = stored
        .as_ref()
        .and_then(|row| pair(row.lower_acceptance_limit, row.upper_acceptance_limit));
    let statement = stored
        .as_ref()
        .and_then(|row| row.statement.as_deref())
        .map(|text| text.parse().map_err(unreadable))
        .transpose()?;
    let conformance_probability = stored.and_then(|row| row.conformance_probability);
    // Of a stored result nothing is combined anew; a mean has the weight of its readings.
    let scatter_weight = 1.0 / (row.singles.len().max(1) as f64).sqrt();
    Ok((
        Characteristic {
            key: row.key,
            label: row.label,
            kind: word(&row.kind)?,
            nominal: row.nominal,
            unit: row.unit.parse().map_err(unreadable)?,
            decimals: u32::try_from(row.decimals).map_err(unreadable)?,
            singles: row.singles,
            mean: row.mean,
            reference_value: row.reference_value,
            limits: pair(row.lower_tolerance_limit, row.upper_tolerance_limit),
            single_limits: pair(row.lower_single_limit, row.upper_single_limit),
            contributions: parts,
            indicative: row.indicative,
            charted: row.charted,
            scatter_weight,
            rests_on: vec![],
        },
        ConformityResult {
            conformity,
            rule: word(&row.decision_rule)?,
            statement,
            guard_band,
            acceptance,
            share_used: row.share_used,
            worst_single_share: row.worst_single_share,
            conformance_probability,
            nonconformance_probability: conformance_probability.map(|inside| 1.0 - inside),
            capability_index: row.capability_index,
            budget,
        },
    ))
}
