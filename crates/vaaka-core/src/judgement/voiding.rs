//! Who may void a check: void is not fail, and a failure is not made to disappear.

use thiserror::Error;

/// A check may not be voided by this person. The words say who may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum VoidError {
    /// A failing check, and a technician asks.
    #[error(
        "A reading of this check is outside its tolerance, so it is voided by a lead only, who did not run it. Finish it, or tell your lead what went wrong; nothing is lost meanwhile."
    )]
    LeadOnly,
    /// A failing check, and a lead asks who ran it.
    #[error(
        "You had this check in hand yourself, and it failed: another lead decides whether it is void."
    )]
    OwnFailure,
}

/// Whether somebody may void a check. `failing` says that it failed, or that what was read so far
/// is outside its limits; `own` that this person had it in hand.
///
/// # Errors
/// [`VoidError`].
pub fn may_void(failing: bool, own: bool, by_lead: bool) -> Result<(), VoidError> {
    match (failing, own, by_lead) {
        (true, _, false) => Err(VoidError::LeadOnly),
        (true, true, true) => Err(VoidError::OwnFailure),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(false, true, false, Ok(()))]
    #[case(false, false, false, Ok(()))]
    #[case(true, true, false, Err(VoidError::LeadOnly))]
    #[case(true, false, false, Err(VoidError::LeadOnly))]
    #[case(true, true, true, Err(VoidError::OwnFailure))]
    #[case(true, false, true, Ok(()))]
    fn a_failure_does_not_disappear(
        #[case] failing: bool,
        #[case] own: bool,
        #[case] by_lead: bool,
        #[case] expected: Result<(), VoidError>,
    ) {
        assert_eq!(may_void(failing, own, by_lead), expected);
    }
}
