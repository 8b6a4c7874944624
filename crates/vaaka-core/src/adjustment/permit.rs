//! May this instrument be adjusted now?

use thiserror::Error;

use crate::judgement::Conformity;
use crate::method::AdjustmentPolicy;

/// What the permission rests on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PermitInput<'a> {
    /// When the plan lets it be adjusted.
    pub policy: AdjustmentPolicy,
    /// Whether it can be adjusted at all.
    pub adjustable: bool,
    /// Whether it carries a seal.
    pub sealed: bool,
    /// Who is authorised to break the seal, as typed; empty where nobody was named.
    pub authority: &'a str,
    /// Whether a lead decides.
    pub by_lead: bool,
    /// Whether the check has every point of its plan, is valid, and was as found.
    pub full_as_found: bool,
    /// Whether the instrument was checked again in a later shift, adjusted, moved or repaired since
    /// that check.
    pub touched_since: bool,
    /// Whether the check conformed.
    pub conforms: Conformity,
    /// Largest share of the tolerance that the estimated level uses at any point: a single reading that happens to lie far
    /// out says nothing of the instrument.
    pub level_share: Option<f64>,
    /// Whether its drift crosses the tolerance before the next check is over.
    pub crosses_soon: bool,
}

/// Share of the tolerance at which the guard-fraction policy lets an instrument be adjusted.
pub const GUARD_FRACTION: f64 = 0.75;

/// Why not. The words say what to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum AdjustmentRefusal {
    /// It cannot be adjusted.
    #[error("This instrument cannot be adjusted. Restrict it, or call for service.")]
    NotAdjustable,
    /// No complete as-found check.
    #[error(
        "Only a full as-found check comes before an adjustment: without it nobody can say since when the instrument was off, or what it measured meanwhile. Run its check first, all points."
    )]
    NoFullAsFound,
    /// The check is no longer what the instrument does.
    #[error(
        "It was checked again, adjusted, moved or repaired since this check, which therefore says nothing of it now. Go by its newest check, or run that first."
    )]
    TouchedSince,
    /// The plan lets it alone.
    #[error(
        "It is inside tolerance, and its plan has it adjusted only when it is out: leave it alone, so that its drift stays visible and no noise is added."
    )]
    InsideTolerance,
    /// The plan lets it alone until three quarters are used.
    #[error(
        "It uses less than three quarters of its tolerance and no drift will cross it before the next check: by its plan it is left alone."
    )]
    BelowGuardFraction,
    /// A lead decides.
    #[error("A lead decides on an adjustment. Tell your lead; the as-found check is on record.")]
    LeadOnly,
    /// The seal.
    #[error(
        "It is sealed: only a body or person authorised for legal-for-trade equipment may open it. Say who that is and under which authority; without one, call them."
    )]
    Sealed,
}

/// Whether the instrument may be adjusted: only after a full as-found check, by its plan's policy,
/// by a lead's decision, and under its seal only with an authority.
///
/// # Errors
/// [`AdjustmentRefusal`], the one that stands first.
pub fn permit(input: &PermitInput<'_>) -> Result<(), AdjustmentRefusal> {
    if !input.adjustable {
        return Err(AdjustmentRefusal::NotAdjustable);
    }
    if !input.full_as_found {
        return Err(AdjustmentRefusal::NoFullAsFound);
    }
    if input.touched_since {
        return Err(AdjustmentRefusal::TouchedSince);
    }
    let failed = input.conforms == Conformity::Fail;
    let guard = input.level_share.is_some_and(|share| share >= GUARD_FRACTION);
    match input.policy {
        AdjustmentPolicy::OnlyWhenOut if !failed => return Err(AdjustmentRefusal::InsideTolerance),
        AdjustmentPolicy::AtGuardFraction if !(failed || guard || input.crosses_soon) => {
            return Err(AdjustmentRefusal::BelowGuardFraction);
        }
        _ => {}
    }
    // Standardising before each use is the bench's own work; everything else is decided by a lead.
    if !input.by_lead && input.policy != AdjustmentPolicy::BeforeEachUse {
        return Err(AdjustmentRefusal::LeadOnly);
    }
    if input.sealed && input.authority.trim().is_empty() {
        return Err(AdjustmentRefusal::Sealed);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use AdjustmentPolicy::{AtGuardFraction, BeforeEachUse, OnlyWhenOut};
    use rstest::rstest;

    const FAILED: PermitInput<'static> = PermitInput {
        policy: OnlyWhenOut,
        adjustable: true,
        sealed: false,
        authority: "",
        by_lead: true,
        full_as_found: true,
        touched_since: false,
        conforms: Conformity::Fail,
        level_share: Some(1.4),
        crosses_soon: false,
    };
    const PASSED: PermitInput<'static> =
        PermitInput { conforms: Conformity::Pass, level_share: Some(0.5), ..FAILED };

    #[rstest]
    #[case(FAILED, Ok(()))]
    #[case(PermitInput { adjustable: false, ..FAILED }, Err(AdjustmentRefusal::NotAdjustable))]
    #[case(PermitInput { full_as_found: false, ..FAILED }, Err(AdjustmentRefusal::NoFullAsFound))]
    #[case(PermitInput { touched_since: true, ..FAILED }, Err(AdjustmentRefusal::TouchedSince))]
    #[case(PermitInput { by_lead: false, ..FAILED }, Err(AdjustmentRefusal::LeadOnly))]
    #[case(PermitInput { sealed: true, ..FAILED }, Err(AdjustmentRefusal::Sealed))]
    #[case(PermitInput { sealed: true, authority: "weights office, no. 7", ..FAILED }, Ok(()))]
    #[case(PASSED, Err(AdjustmentRefusal::InsideTolerance))]
    #[case(PermitInput { policy: AtGuardFraction, ..PASSED }, Err(AdjustmentRefusal::BelowGuardFraction))]
    #[case(PermitInput { policy: AtGuardFraction, level_share: Some(0.75), ..PASSED }, Ok(()))]
    #[case(PermitInput { policy: AtGuardFraction, crosses_soon: true, ..PASSED }, Ok(()))]
    #[case(PermitInput { policy: BeforeEachUse, by_lead: false, ..PASSED }, Ok(()))]
    #[case(PermitInput { policy: BeforeEachUse, full_as_found: false, ..PASSED }, Err(AdjustmentRefusal::NoFullAsFound))]
    #[case(PermitInput { policy: BeforeEachUse, by_lead: false, sealed: true, ..PASSED }, Err(AdjustmentRefusal::Sealed))]
    fn permissions(
        #[case] input: PermitInput<'_>,
        #[case] expected: Result<(), AdjustmentRefusal>,
    ) {
        assert_eq!(permit(&input), expected);
    }
}
