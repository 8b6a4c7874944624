//! Whether a standard can serve now; where it cannot, why, and what can instead.

use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::same_nominal;
use crate::quantity::Unit;

/// What people have decided about a standard.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StandardState {
    /// May be used.
    InUse,
    /// Not before a lead decides.
    OnHold {
        /// Why.
        reason: String,
    },
    /// Never again.
    Retired,
}

/// What a certificate is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateKind {
    /// Calibration: values with uncertainty.
    Calibration,
    /// Conformance: it once passed at its maker's; no reference unless a lead accepts it.
    Conformance {
        /// Whether a lead has accepted it, with a written reason.
        accepted: bool,
    },
}

/// How use wears a standard out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum UseKind {
    /// Each reading marks a place of a block.
    Indentations,
    /// Each reading mates a connector once.
    Matings,
    /// Each check opens a bag or vessel once.
    Openings,
    /// Each check uses one up.
    SingleUse,
}

impl UseKind {
    /// All, in the order in which a list offers them.
    pub const ALL: [Self; 4] = [Self::Indentations, Self::Matings, Self::Openings, Self::SingleUse];

    /// The word that stands for it in the store.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Indentations => "indentations",
            Self::Matings => "matings",
            Self::Openings => "openings",
            Self::SingleUse => "single_use",
        }
    }

    /// What is counted, for people.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Indentations => "indentations",
            Self::Matings => "matings",
            Self::Openings => "openings",
            Self::SingleUse => "single-use pieces",
        }
    }

    /// How many uses a check with so many readings on the standard makes.
    #[must_use]
    pub fn uses_of_check(self, readings: u32) -> u32 {
        match self {
            Self::Indentations | Self::Matings => readings,
            Self::Openings | Self::SingleUse => u32::from(readings > 0),
        }
    }
}

impl std::str::FromStr for UseKind {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let known = Self::ALL.into_iter().find(|kind| kind.word() == text);
        known.ok_or_else(|| format!("“{text}” is no kind of use"))
    }
}

/// The lot in use, as far as fitness needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LotFacts {
    /// Number of the lot or piece.
    pub lot: String,
    /// Last day on which it may be used.
    pub expires_on: Option<Date>,
    /// When it was opened.
    pub opened_at: Option<Timestamp>,
    /// How long it may be open.
    pub open_hours: Option<u32>,
    /// How use wears it out, and how many uses it bears.
    pub limit: Option<(UseKind, u32)>,
    /// Uses so far.
    pub used: u32,
}

/// Its certificate, as far as fitness needs it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateFacts {
    /// Number.
    pub number: String,
    /// What it is.
    pub kind: CertificateKind,
    /// First valid day.
    pub valid_from: Date,
    /// Last valid day.
    pub valid_until: Date,
}

/// A standard of the register, with what decides whether it can serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StandardFacts {
    /// Tag.
    pub tag: String,
    /// Name.
    pub name: String,
    /// Kind, as the site names it.
    pub kind: String,
    /// Where it is kept.
    pub location: String,
    /// What people decided.
    pub state: StandardState,
    /// The lot in use.
    pub lot: Option<LotFacts>,
    /// The certificate of that lot that holds now.
    pub certificate: Option<CertificateFacts>,
    /// Number of a certificate that waits for a second lead to compare it with the paper.
    pub waiting: Option<String>,
    /// Nominal values that it offers, in its unit.
    pub pieces: Vec<(Decimal, Unit)>,
}

/// Why a standard cannot be used now.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Unfit {
    /// Retired.
    #[error("{tag} is retired")]
    Retired {
        /// The standard.
        tag: String,
    },
    /// On hold.
    #[error("{tag} is on hold: {reason}")]
    OnHold {
        /// The standard.
        tag: String,
        /// Why.
        reason: String,
    },
    /// No lot or piece stands behind the tag.
    #[error("{tag} has no lot in use")]
    NoLot {
        /// The standard.
        tag: String,
    },
    /// No certified values.
    #[error("{tag} has no certificate with certified values, so it cannot prove anything")]
    NoCertificate {
        /// The standard.
        tag: String,
    },
    /// Its certificate was typed by one lead and is not countersigned yet.
    #[error(
        "{tag}: certificate {certificate} waits for a second lead to compare it with the paper"
    )]
    NotCountersigned {
        /// The standard.
        tag: String,
        /// The certificate.
        certificate: String,
    },
    /// Only a certificate of conformance, which no lead has accepted.
    #[error(
        "{tag} has only a certificate of conformance ({certificate}): it once passed at its maker's, without data. A lead may accept it with a written reason"
    )]
    ConformanceOnly {
        /// The standard.
        tag: String,
        /// The certificate.
        certificate: String,
    },
    /// The validity of its certificate ended.
    #[error("{tag}: certificate {certificate} ended on {ended}")]
    OutOfDate {
        /// The standard.
        tag: String,
        /// The certificate's number.
        certificate: String,
        /// Last valid day.
        ended: Date,
    },
    /// The certificate is not valid yet.
    #[error("{tag}: certificate {certificate} is valid from {begins} only")]
    NotYetValid {
        /// The standard.
        tag: String,
        /// The certificate's number.
        certificate: String,
        /// First valid day.
        begins: Date,
    },
    /// The lot is past its day.
    #[error("{tag}: lot {lot} expired on {ended}")]
    LotExpired {
        /// The standard.
        tag: String,
        /// The lot.
        lot: String,
        /// Last day.
        ended: Date,
    },
    /// The lot has been open for too long.
    #[error("{tag}: lot {lot} has been open for {open} h, and {most} h are allowed")]
    OpenTooLong {
        /// The standard.
        tag: String,
        /// The lot.
        lot: String,
        /// Hours open, rounded down.
        open: i64,
        /// Hours allowed.
        most: u32,
    },
    /// Used up.
    #[error("{tag}: lot {lot} has {left} of {most} {what} left, and this check needs {needed}")]
    UsedUp {
        /// The standard.
        tag: String,
        /// The lot.
        lot: String,
        /// What is counted.
        what: &'static str,
        /// Left.
        left: u32,
        /// Allowed in all.
        most: u32,
        /// Needed.
        needed: u32,
    },
}

/// Whether a standard can serve for a check with so many readings on it.
///
/// # Errors
/// [`Unfit`], the first reason that holds.
pub fn check_fitness(
    standard: &StandardFacts,
    readings: u32,
    now: Timestamp,
    today: Date,
) -> Result<(), Unfit> {
    let tag = standard.tag.clone();
    match &standard.state {
        StandardState::InUse => {}
        StandardState::OnHold { reason } => {
            return Err(Unfit::OnHold { tag, reason: reason.clone() });
        }
        StandardState::Retired => return Err(Unfit::Retired { tag }),
    }
    let Some(lot) = &standard.lot else {
        return Err(Unfit::NoLot { tag });
    };
    let Some(certificate) = &standard.certificate else {
        return Err(match standard.waiting.clone() {
            Some(certificate) => Unfit::NotCountersigned { tag, certificate },
            None => Unfit::NoCertificate { tag },
        });
    };
    let number = certificate.number.clone();
    if certificate.kind == (CertificateKind::Conformance { accepted: false }) {
        return Err(Unfit::ConformanceOnly { tag, certificate: number });
    }
    if today > certificate.valid_until {
        // The new one is there, and only a second pair of eyes is missing.
        if let Some(certificate) = standard.waiting.clone() {
            return Err(Unfit::NotCountersigned { tag, certificate });
        }
        let ended = certificate.valid_until;
        return Err(Unfit::OutOfDate { tag, certificate: number, ended });
    }
    if today < certificate.valid_from {
        let begins = certificate.valid_from;
        return Err(Unfit::NotYetValid { tag, certificate: number, begins });
    }
    check_lot(tag, lot, readings, now, today)
}

fn check_lot(
    tag: String,
    facts: &LotFacts,
    readings: u32,
    now: Timestamp,
    today: Date,
) -> Result<(), Unfit> {
    let lot = facts.lot.clone();
    if let Some(ended) = facts.expires_on.filter(|last| today > *last) {
        return Err(Unfit::LotExpired { tag, lot, ended });
    }
    if let (Some(opened), Some(most)) = (facts.opened_at, facts.open_hours) {
        let open = now.duration_since(opened);
        if open > SignedDuration::from_hours(i64::from(most)) {
            return Err(Unfit::OpenTooLong { tag, lot, open: open.as_hours(), most });
        }
    }
    if let Some((kind, most)) = facts.limit {
        let needed = kind.uses_of_check(readings);
        let left = most.saturating_sub(facts.used);
        if left < needed || left == 0 {
            return Err(Unfit::UsedUp { tag, lot, what: kind.words(), left, most, needed });
        }
    }
    Ok(())
}

/// What a check wants of a standard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Offer<'a> {
    /// Kind of standard.
    pub kind: &'a str,
    /// Nominal values that must be there.
    pub nominals: &'a [(Decimal, Unit)],
    /// Readings that the check makes on it.
    pub readings: u32,
}

fn offers(standard: &StandardFacts, wanted: Offer<'_>) -> bool {
    // A nominal that is wanted twice needs two pieces.
    let mut left: Vec<(Decimal, Unit)> = standard.pieces.clone();
    standard.kind == wanted.kind
        && wanted.nominals.iter().all(|(nominal, unit)| {
            // One whose number is the same goes before one that is only near.
            let exact = |(value, of): &(Decimal, Unit)| {
                of.try_convert(*value, *unit).is_ok_and(|value| value == *nominal)
            };
            let near = |piece: &(Decimal, Unit)| {
                same_nominal(std::slice::from_ref(piece), *nominal, *unit)
            };
            let place = left.iter().position(exact).or_else(|| left.iter().position(near));
            place.map(|place| left.swap_remove(place)).is_some()
        })
}

/// The standards that can take the place of one: of the same kind, with the same nominal values,
/// and fit to serve now.
#[must_use]
pub fn alternatives<'a>(
    all: &'a [StandardFacts],
    not: &str,
    wanted: Offer<'_>,
    now: Timestamp,
    today: Date,
) -> Vec<&'a StandardFacts> {
    all.iter()
        .filter(|standard| standard.tag != not && offers(standard, wanted))
        .filter(|standard| check_fitness(standard, wanted.readings, now, today).is_ok())
        .collect()
}

/// Why the tag that was scanned or typed is not taken; each says what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TagRefusal {
    /// Nothing typed.
    #[error("Scan or type the tag that is on the standard in your hand: {wanted} is wanted.")]
    Nothing {
        /// What is wanted.
        wanted: String,
    },
    /// Not in the register.
    #[error(
        "“{typed}” is not in the register of standards. Look at the tag again: {wanted} is wanted."
    )]
    Unknown {
        /// As typed.
        typed: String,
        /// What is wanted.
        wanted: String,
    },
    /// In the register, and not what the plan wants.
    #[error(
        "“{typed}” is {name}, not the standard of this plan. Take {wanted}, and scan or type the tag on it."
    )]
    Wrong {
        /// As typed.
        typed: String,
        /// Its name.
        name: String,
        /// What is wanted.
        wanted: String,
    },
    /// The right one, and it cannot be used now.
    #[error("It is the right one, but it cannot be used: {why}. {instead}")]
    Unfit {
        /// Why.
        why: Unfit,
        /// What can be used, a sentence.
        instead: String,
    },
    /// The right one, and its certificate does not have what the plan asks for.
    #[error("It is the right one, but it cannot be used. {words}")]
    Unmet {
        /// What is missing, in sentences.
        words: String,
    },
}

/// Judges a tag: wrong, unfit and right are told apart. `fixed` is the tag that the plan names,
/// or none where any standard of the kind will do. Gives the standard taken.
///
/// # Errors
/// [`TagRefusal`].
pub fn check_tag<'a>(
    typed: &str,
    fixed: Option<&str>,
    all: &'a [StandardFacts],
    wanted: Offer<'_>,
    now: Timestamp,
    today: Date,
) -> Result<&'a StandardFacts, TagRefusal> {
    let usable = || alternatives(all, "", wanted, now, today);
    let wanted_words = || match fixed {
        Some(tag) => tag.to_owned(),
        None => {
            let tags: Vec<&str> = usable().iter().map(|standard| standard.tag.as_str()).collect();
            match tags.as_slice() {
                [] => format!("a {} that fits", kind_words(wanted.kind)),
                tags => tags.join(" or "),
            }
        }
    };
    let typed = typed.trim();
    if typed.is_empty() {
        return Err(TagRefusal::Nothing { wanted: wanted_words() });
    }
    // "m1b" is M1-B: nobody types dashes in gloves.
    let plain = |text: &str| -> String {
        text.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect()
    };
    let found = all.iter().find(|standard| standard.tag == typed).or_else(|| {
        all.iter().find(|standard| plain(&standard.tag) == plain(typed) && !plain(typed).is_empty())
    });
    let Some(found) = found else {
        return Err(TagRefusal::Unknown { typed: typed.to_owned(), wanted: wanted_words() });
    };
    let right = match fixed {
        Some(tag) => found.tag == tag,
        None => offers(found, wanted),
    };
    if !right {
        return Err(TagRefusal::Wrong {
            typed: typed.to_owned(),
            name: found.name.clone(),
            wanted: wanted_words(),
        });
    }
    check_fitness(found, wanted.readings, now, today).map_err(|why| {
        let instead =
            instead_words(fixed.is_some(), &alternatives(all, &found.tag, wanted, now, today));
        TagRefusal::Unfit { why, instead }
    })?;
    Ok(found)
}

/// "weight set" for a kind stored as `weight_set`.
#[must_use]
pub fn kind_words(kind: &str) -> String {
    kind.replace('_', " ")
}

/// What can be used in place of a standard that cannot, as a sentence.
#[must_use]
pub fn instead_words(plan_names_it: bool, instead: &[&StandardFacts]) -> String {
    let names: Vec<String> = instead
        .iter()
        .take(3)
        .map(|standard| match standard.location.as_str() {
            "" => standard.tag.clone(),
            place => format!("{} ({place})", standard.tag),
        })
        .collect();
    match (names.as_slice(), plan_names_it) {
        ([], _) => "Nothing else of its kind can be used now: put the instrument on hold, and tell your lead.".into(),
        (names, false) => format!("Take {} instead.", names.join(" or ")),
        (names, true) => format!("{} would do: ask a lead to put it into the plan.", names.join(" or ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;
    use rstest::rstest;

    fn weights(tag: &str) -> StandardFacts {
        StandardFacts {
            tag: tag.into(),
            name: format!("Weights {tag}"),
            kind: "weight_set".into(),
            location: String::new(),
            state: StandardState::InUse,
            waiting: None,
            lot: Some(LotFacts {
                lot: "L-1".into(),
                expires_on: None,
                opened_at: None,
                open_hours: None,
                limit: None,
                used: 0,
            }),
            certificate: Some(CertificateFacts {
                number: "V-1".into(),
                kind: CertificateKind::Calibration,
                valid_from: date(2026, 3, 14),
                valid_until: date(2027, 3, 14),
            }),
            pieces: vec![(10.into(), Unit::Kilogram), (10.into(), Unit::Kilogram)],
        }
    }

    fn now() -> Timestamp {
        "2026-11-24T20:34:00Z".parse().unwrap()
    }

    const TODAY: Date = date(2026, 11, 24);
    const TWO_TENS: [(Decimal, Unit); 2] =
        [(Decimal::TEN, Unit::Kilogram), (Decimal::TEN, Unit::Kilogram)];

    fn offer() -> Offer<'static> {
        Offer { kind: "weight_set", nominals: &TWO_TENS, readings: 6 }
    }

    #[rstest]
    #[case(date(2027, 3, 14), "")]
    #[case(date(2027, 3, 15), "M1: certificate V-1 ended on 2027-03-14")]
    #[case(date(2026, 3, 13), "M1: certificate V-1 is valid from 2026-03-14 only")]
    fn the_last_day_counts(#[case] today: Date, #[case] words: &str) {
        let fit = check_fitness(&weights("M1"), 1, now(), today);
        assert_eq!(fit.map_or_else(|unfit| unfit.to_string(), |()| String::new()), words);
    }

    type Change = fn(&mut StandardFacts);

    #[rstest]
    #[case(|s: &mut StandardFacts| s.state = StandardState::Retired, "M1 is retired")]
    #[case(|s: &mut StandardFacts| s.state = StandardState::OnHold { reason: "dropped".into() }, "M1 is on hold: dropped")]
    #[case(|s: &mut StandardFacts| s.lot = None, "M1 has no lot in use")]
    #[case(|s: &mut StandardFacts| s.certificate = None, "M1 has no certificate with certified values, so it cannot prove anything")]
    #[case(|s: &mut StandardFacts| lot(s).expires_on = Some(date(2026, 11, 23)), "M1: lot L-1 expired on 2026-11-23")]
    #[case(|s: &mut StandardFacts| lot(s).expires_on = Some(TODAY), "")]
    #[case(|s: &mut StandardFacts| { lot(s).opened_at = Some(now() - SignedDuration::from_hours(9)); lot(s).open_hours = Some(8); }, "M1: lot L-1 has been open for 9 h, and 8 h are allowed")]
    #[case(|s: &mut StandardFacts| { lot(s).opened_at = Some(now() - SignedDuration::from_hours(8)); lot(s).open_hours = Some(8); }, "")]
    #[case(|s: &mut StandardFacts| { lot(s).limit = Some((UseKind::Indentations, 100)); lot(s).used = 95; }, "M1: lot L-1 has 5 of 100 indentations left, and this check needs 6")]
    #[case(|s: &mut StandardFacts| { lot(s).limit = Some((UseKind::Indentations, 100)); lot(s).used = 94; }, "")]
    #[case(|s: &mut StandardFacts| { lot(s).limit = Some((UseKind::Openings, 20)); lot(s).used = 19; }, "")]
    #[case(|s: &mut StandardFacts| { lot(s).limit = Some((UseKind::SingleUse, 5)); lot(s).used = 5; }, "M1: lot L-1 has 0 of 5 single-use pieces left, and this check needs 1")]
    #[case(|s: &mut StandardFacts| kind(s, CertificateKind::Conformance { accepted: true }), "")]
    #[case(|s: &mut StandardFacts| kind(s, CertificateKind::Conformance { accepted: false }), "M1 has only a certificate of conformance (V-1): it once passed at its maker's, without data. A lead may accept it with a written reason")]
    // What only waits for a second pair of eyes says so, and not that it is expired or missing.
    #[case(|s: &mut StandardFacts| { s.certificate = None; s.waiting = Some("V-2".into()) }, "M1: certificate V-2 waits for a second lead to compare it with the paper")]
    #[case(|s: &mut StandardFacts| { ended(s); s.waiting = Some("V-2".into()) }, "M1: certificate V-2 waits for a second lead to compare it with the paper")]
    // A new one that waits takes nothing from the old one that holds.
    #[case(|s: &mut StandardFacts| s.waiting = Some("V-2".into()), "")]
    fn each_reason_is_named(#[case] change: Change, #[case] words: &str) {
        let mut standard = weights("M1");
        change(&mut standard);
        let fit = check_fitness(&standard, 6, now(), TODAY);
        assert_eq!(fit.map_or_else(|unfit| unfit.to_string(), |()| String::new()), words);
    }

    fn ended(standard: &mut StandardFacts) {
        let certificate = standard.certificate.as_mut().unwrap();
        certificate.valid_until = TODAY.yesterday().unwrap();
    }

    fn lot(standard: &mut StandardFacts) -> &mut LotFacts {
        standard.lot.as_mut().unwrap()
    }

    fn kind(standard: &mut StandardFacts, kind: CertificateKind) {
        standard.certificate.as_mut().unwrap().kind = kind;
    }

    fn shelf() -> Vec<StandardFacts> {
        let mut held = weights("M1-A");
        held.state = StandardState::OnHold { reason: "dropped".into() };
        let mut other = weights("GB-1");
        other.kind = "block_set".into();
        other.name = "Gauge blocks".into();
        let mut single = weights("M1-C");
        single.pieces.pop();
        vec![held, weights("M1-B"), single, other]
    }

    #[test]
    fn wrong_unfit_and_right_are_told_apart() {
        let all = shelf();
        let take = |typed: &str, fixed| {
            check_tag(typed, fixed, &all, offer(), now(), TODAY)
                .map_or_else(|refusal| refusal.to_string(), |found| found.tag.clone())
        };
        assert_eq!(take(" m1-b ", Some("M1-B")), "M1-B");
        assert_eq!(take("m1b", Some("M1-B")), "M1-B");
        assert!(take("", Some("M1-B")).contains("M1-B is wanted"));
        assert!(take("M9-Z", Some("M1-B")).contains("not in the register"));
        assert!(take("GB-1", Some("M1-B")).contains("Gauge blocks, not the standard of this plan"));
        let held = take("M1-A", Some("M1-A"));
        assert!(held.contains("on hold: dropped") && held.contains("M1-B would do"), "{held}");
        // Any of the kind: the one that is in hand, when it has all pieces and is fit.
        assert_eq!(take("M1-B", None), "M1-B");
        assert!(take("M1-A", None).ends_with("Take M1-B instead."));
        assert!(take("M1-C", None).contains("Take M1-B"), "one piece is missing");
    }

    #[test]
    fn nothing_left_means_hold() {
        let all = vec![shelf().remove(0)];
        let refusal = check_tag("M1-A", Some("M1-A"), &all, offer(), now(), TODAY).unwrap_err();
        assert!(refusal.to_string().contains("put the instrument on hold"), "{refusal}");
    }

    /// A plan in psi finds its pieces in bar by the names of their values, each piece once, and one whose number is the same
    /// before one that is only near.
    #[test]
    fn pieces_of_another_system_of_units_are_found_by_their_names() {
        let d = |text: &str| text.parse::<Decimal>().unwrap();
        let mut blocks = weights("PR-1");
        blocks.kind = "pressure_reference".into();
        blocks.pieces = vec![(d("10"), Unit::Bar), (d("20"), Unit::Bar), (d("145"), Unit::Psi)];
        let all = [blocks];
        let fits = |wanted: &[&str]| {
            let nominals: Vec<_> = wanted.iter().map(|text| (d(text), Unit::Psi)).collect();
            let offer = Offer { kind: "pressure_reference", nominals: &nominals, readings: 1 };
            !alternatives(&all, "", offer, now(), TODAY).is_empty()
        };
        assert!(fits(&["145"]) && fits(&["290"]) && fits(&["145", "290"]));
        assert!(fits(&["290.08"]) && fits(&["145.04"]));
        // The one of 145 psi and the one of 10 bar are two pieces; a third of them is not there.
        assert!(fits(&["145", "145"]) && fits(&["145", "145.04"]) && fits(&["145.04", "145"]));
        assert!(!fits(&["145", "145", "145"]) && !fits(&["145.04", "145.04"]));
        assert!(!fits(&["146"]) && !fits(&["290.2"]) && !fits(&["10"]));
        let kilograms = [(d("10"), Unit::Kilogram)];
        let offer = Offer { kind: "pressure_reference", nominals: &kilograms, readings: 1 };
        assert!(alternatives(&all, "", offer, now(), TODAY).is_empty());
    }
}
