//! Whose fault a change is: an instrument's, a standard's, a person's, an area's, of two of them, or nobody can tell.
//!
//! Every pair of instrument and standard has a level of its own, so that only changes speak and differing quantities do not
//! matter. In sigmas of each instrument, the pair levels projected out, an explanation is a regressor x with an effect
//! N(0, κ²): ln BF = −½ ln(1 + κ²x·x) + ½ κ²(x·y)²/(1 + κ²x·x), averaged over shape (step, drift, for areas a stretch that is
//! over), onset and κ. A standard that grew makes the errors of all its instruments fall. An area moves its instruments alike,
//! but not equally: amplitudes N(0, κ²(11ᵀ + 0.35² I)). Two explanations: the second beside each of the five best first ones,
//! those projected out with their prior. Held against Gaussian densities (SciPy, `tools/reference/culprits.py`).

mod course;
mod evidence;
mod site;

use serde::{Deserialize, Serialize};

use crate::stats::StatsError;
pub use course::Course;
use evidence::{Evidence, Known};
use site::{Site, Touched};

/// Prior probability that nothing changed, of one explanation, and of two.
const NONE: f64 = 0.5;
const ONE: f64 = 0.4;
const TWO: f64 = 0.1;
/// How many of the best explanations a second one is looked for beside.
const BEST: usize = 5;
/// From this probability on an explanation is named.
pub const NAMED_FROM: f64 = 0.9;
/// Explanations below this are not listed.
const LISTED_FROM: f64 = 0.02;
/// What two explanations must differ by, in squared sigmas over all checks, to be told apart.
const TOLD_APART: f64 = 14.0;

/// One checked error: who read what with what, where and when.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CrossRead {
    /// Number of the shift.
    pub shift: u32,
    /// The instrument.
    pub instrument: usize,
    /// The standard.
    pub standard: usize,
    /// The person.
    pub person: usize,
    /// The area in which the instrument stands.
    pub area: usize,
    /// Number of the stretch between known changes of its level (an adjustment, a repair): each has a level of its own.
    pub epoch: usize,
    /// The error, in whatever unit the instrument has.
    pub error: f64,
}

/// Somebody or something that may have changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "kind", content = "id")]
pub enum Suspect {
    /// An instrument.
    Instrument(usize),
    /// A standard.
    Standard(usize),
    /// A person.
    Person(usize),
    /// An area.
    Area(usize),
}

/// An explanation with its probability.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Inclusion {
    /// Who or what.
    pub suspect: Suspect,
    /// Probability that it changed, alone or beside another.
    pub probability: f64,
    /// How it changed, most likely.
    pub course: Course,
    /// Shift from which on, most likely.
    pub since: u32,
    /// Lower end of the 95 % interval of that: what rested on it is looked back over from here.
    pub since_low: u32,
    /// How far, in sigmas of a check; for a standard towards larger values of the standard.
    pub size: f64,
    /// Whether a known change of the instrument (an adjustment, a repair) came after it: then it is over, and nobody is looked
    /// for any more.
    pub settled: bool,
}

/// What is told.
#[derive(Debug, Clone, PartialEq)]
pub enum Finding {
    /// Nothing changed that more than one could share.
    Nothing,
    /// These changed, one or two.
    Named(Vec<Suspect>),
    /// Something changed, and these cannot be told apart yet.
    CannotTell(Vec<Suspect>),
}

/// The check that would tell two explanations apart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Telling {
    /// Instrument to be checked.
    pub instrument: usize,
    /// With this standard.
    pub standard: usize,
    /// By how many sigmas the two explanations differ there.
    pub differs_by: f64,
    /// About how many such checks it takes.
    pub checks: u32,
}

/// Whose fault it is.
#[derive(Debug, Clone, PartialEq)]
pub struct Culprit {
    /// What is told.
    pub finding: Finding,
    /// Probability that nothing changed.
    pub none: f64,
    /// Explanations, the likeliest first.
    pub inclusions: Vec<Inclusion>,
    /// The check that would tell; none where all is told, or no crossed pair has a history.
    pub telling: Option<Telling>,
    /// How much neighbouring checks of a pair resemble each other.
    pub autocorrelation: f64,
    /// Standard deviation of a check, for each instrument in its unit; zero for one that says nothing.
    pub sigmas: Vec<f64>,
}

/// Evidence for two at once, for the best single ones with each of the others: the pair, and the logarithm of what speaks for
/// it.
fn pairs(site: &Site, suspects: &[Touched], found: &[Evidence]) -> Vec<((usize, usize), f64)> {
    let pairs = suspects.len() * suspects.len().saturating_sub(1) / 2;
    let ln_two = (TWO / pairs.max(1) as f64).ln();
    let mut order: Vec<usize> = (0..suspects.len()).collect();
    order.sort_by(|a, b| found[*b].ln.total_cmp(&found[*a].ln));
    let mut two: Vec<((usize, usize), f64)> = Vec::new();
    for first in order.iter().take(BEST).copied() {
        let known = Known::of(site, &suspects[first], &found[first]);
        for second in (0..suspects.len()).filter(|second| *second != first) {
            let beside = evidence::of(site, &suspects[second], Some(&known));
            let key = (first.min(second), first.max(second));
            let ln = ln_two + found[first].ln + beside.ln;
            match two.iter_mut().find(|(pair, _)| *pair == key) {
                // Both orders are looked at where both are among the best: the one that finds more stands.
                Some((_, other)) => *other = other.max(ln),
                None => two.push((key, ln)),
            }
        }
    }
    two
}

/// Looks for whose fault it is.
///
/// # Errors
/// [`StatsError::TooFewPoints`] below twelve reads that say anything, [`StatsError::NotFinite`].
pub fn culprit(reads: &[CrossRead]) -> Result<Culprit, StatsError> {
    let site = Site::of(reads)?;
    if site.grid.is_empty() {
        // All at one time: there is no before and after.
        let Site { autocorrelation, sigmas, .. } = site;
        let (finding, none) = (Finding::Nothing, 1.0);
        return Ok(Culprit {
            finding,
            none,
            inclusions: vec![],
            telling: None,
            autocorrelation,
            sigmas,
        });
    }
    let suspects = site.suspects();
    let found: Vec<Evidence> = suspects.iter().map(|one| evidence::of(&site, one, None)).collect();
    let ln_one = (ONE / suspects.len() as f64).ln();
    let two = pairs(&site, &suspects, &found);
    let all = std::iter::once(NONE.ln())
        .chain(found.iter().map(|one| ln_one + one.ln))
        .chain(two.iter().map(|(_, ln)| *ln));
    let most = all.clone().fold(f64::NEG_INFINITY, f64::max);
    let total: f64 = all.map(|ln| (ln - most).exp()).sum();
    let probability = |ln: f64| (ln - most).exp() / total;

    let none = probability(NONE.ln());
    let mut inclusions: Vec<(usize, Inclusion)> = suspects
        .iter()
        .enumerate()
        .map(|(index, one)| {
            let beside = two.iter().filter(|((a, b), _)| *a == index || *b == index);
            let among: f64 = beside.map(|(_, ln)| probability(*ln)).sum();
            let best = &found[index].best;
            let inclusion = Inclusion {
                suspect: one.suspect,
                probability: probability(ln_one + found[index].ln) + among,
                course: best.course,
                since: site.shift_at(best.from),
                since_low: site.shift_at(found[index].earliest.min(best.from)),
                size: best.size,
                settled: match one.suspect {
                    // A step shows at its first check: one that begins a stretch is the known change itself.
                    Suspect::Instrument(id) => site.newest_epoch_from(id) > best.from,
                    Suspect::Standard(_) | Suspect::Person(_) | Suspect::Area(_) => false,
                },
            };
            (index, inclusion)
        })
        .collect();
    inclusions.sort_by(|a, b| b.1.probability.total_cmp(&a.1.probability));
    let named: Vec<Suspect> = inclusions
        .iter()
        .filter(|(_, one)| one.probability >= NAMED_FROM && !one.settled)
        .map(|(_, one)| one.suspect)
        .take(2)
        .collect();
    let listed: Vec<(usize, Inclusion)> =
        inclusions.iter().filter(|(_, one)| one.probability >= LISTED_FROM).copied().collect();
    // Where what is over explains all, nothing is looked for.
    let open = || listed.iter().filter(|(_, one)| !one.settled);
    let over = listed.iter().any(|(_, one)| one.settled && one.probability >= NAMED_FROM);
    let finding = if none >= 0.5 || over && open().all(|(_, one)| one.probability < 0.5) {
        Finding::Nothing
    } else if !named.is_empty() {
        Finding::Named(named)
    } else {
        Finding::CannotTell(open().map(|(_, one)| one.suspect).collect())
    };
    let among: Vec<(usize, Inclusion)> = open().copied().collect();
    let telling = match (&finding, among.as_slice()) {
        (Finding::CannotTell(_), [first, second, ..]) => site
            .telling(
                (&suspects[first.0], &found[first.0].best),
                (&suspects[second.0], &found[second.0].best),
            )
            .map(|(instrument, standard, gain)| Telling {
                instrument,
                standard,
                differs_by: gain.sqrt(),
                checks: (TOLD_APART / gain).ceil().min(9_999.0) as u32,
            }),
        _ => None,
    };
    let inclusions = listed.into_iter().map(|(_, one)| one).collect();
    Ok(Culprit {
        finding,
        none,
        inclusions,
        telling,
        autocorrelation: site.autocorrelation,
        sigmas: site.sigmas,
    })
}
