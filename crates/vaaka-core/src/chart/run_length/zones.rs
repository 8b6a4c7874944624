//! Zone and side rules as a Markov chain.

use std::collections::HashMap;

use super::{RunLength, RunLengthError, between, law, shift_in_range};
use crate::chart::Criterion;

/// Run length of zone and side rules together after a shift of `shift` sigmas: the chain over what the rules
/// remember, as Champ and Woodall 1987 set it up.
///
/// # Errors
/// [`RunLengthError`].
pub fn zone_rules(criteria: &[Criterion], shift: f64) -> Result<RunLength, RunLengthError> {
    shift_in_range(shift)?;
    if criteria.is_empty() {
        return Err(RunLengthError::Nothing);
    }
    let rules: Vec<ZoneRule> =
        criteria.iter().map(|criterion| ZoneRule::of(*criterion)).collect::<Result<_, _>>()?;
    // Ends of the zones, in sigmas; a point on an end has no probability.
    let ends = [f64::NEG_INFINITY, -3.0, -2.0, -1.0, 0.0, 1.0, 2.0, 3.0, f64::INFINITY];
    let share: Vec<f64> =
        ends.windows(2).map(|pair| between(pair[0] - shift, pair[1] - shift)).collect();
    // Of each point a rule remembers whether it was beyond its zone, on which side.
    let start: Memory = vec![(0, 0); rules.len()];
    let mut places: HashMap<Memory, usize> = HashMap::from([(start.clone(), 0)]);
    let mut waiting = vec![start];
    let (mut steps, mut exits): (Vec<Vec<(usize, f64)>>, Vec<f64>) = (vec![], vec![]);
    let mut next = 0;
    while next < waiting.len() {
        let memory = waiting[next].clone();
        next += 1;
        let (mut own, mut exit) = (Vec::new(), 0.0);
        for (zone, probability) in share.iter().enumerate() {
            let Some(after) = after(&rules, &memory, zone) else {
                exit += probability;
                continue;
            };
            let place = match places.get(&after) {
                Some(place) => *place,
                None => {
                    places.insert(after.clone(), waiting.len());
                    waiting.push(after);
                    waiting.len() - 1
                }
            };
            own.push((place, *probability));
        }
        steps.push(own);
        exits.push(exit);
    }
    let mut here = vec![0.0; steps.len()];
    here[0] = 1.0;
    law::of(4 * MEMORY, || {
        let signals = here.iter().zip(&exits).map(|(mass, exit)| mass * exit).sum();
        let mut next = vec![0.0; here.len()];
        for (mass, own) in here.iter().zip(&steps) {
            for (place, probability) in own {
                next[*place] += mass * probability;
            }
        }
        here = next;
        signals
    })
}

/// No rule looks further back.
const MEMORY: usize = 16;

/// Bits of points beyond a zone, above and below, newest lowest, as far back as the rule looks.
type Memory = Vec<(u16, u16)>;

#[derive(Debug, Clone, Copy)]
struct ZoneRule {
    needed: u32,
    out_of: u32,
    zone: usize,
}

impl ZoneRule {
    fn of(criterion: Criterion) -> Result<Self, RunLengthError> {
        use Criterion as C;
        let (needed, out_of, zone) = match criterion {
            C::Beyond3 => (1, 1, 3),
            C::TwoOfThree => (2, 3, 2),
            C::FourOfFive => (4, 5, 1),
            C::EightOnASide => (8, 8, 0),
            C::NineOnASide => (9, 9, 0),
            C::TwoInARowBeyond2 => (2, 2, 2),
            C::FourInARowBeyond1 => (4, 4, 1),
            C::TenOnASide => (10, 10, 0),
            _ => return Err(RunLengthError::NoZoneRule { criterion }),
        };
        Ok(Self { needed, out_of, zone })
    }

    /// Bits that can still be part of a pattern with the points to come; none after a signal.
    fn remember(self, before: u16, beyond: bool) -> Option<u16> {
        let bits = before << 1 | u16::from(beyond);
        let window = bits & ((1_u32 << self.out_of) - 1) as u16;
        if beyond && window.count_ones() >= self.needed {
            return None;
        }
        let mut kept = bits & ((1_u32 << (self.out_of - 1)) - 1) as u16;
        // The oldest bit is dropped as long as no pattern could be completed with it: fewer states,
        // and the same future.
        while kept != 0 {
            let oldest = 15 - kept.leading_zeros();
            let missing = self.needed.saturating_sub(kept.count_ones());
            if oldest + missing < self.out_of {
                break;
            }
            kept &= !(1 << oldest);
        }
        Some(kept)
    }
}

/// What is remembered after a point in a zone (0 below −3σ … 7 above 3σ); none when a rule fires.
fn after(rules: &[ZoneRule], memory: &Memory, zone: usize) -> Option<Memory> {
    rules
        .iter()
        .zip(memory)
        .map(|(rule, (above, below))| {
            let is_above = zone >= 4 + rule.zone;
            let is_below = zone < 4 - rule.zone;
            Some((rule.remember(*above, is_above)?, rule.remember(*below, is_below)?))
        })
        .collect()
}
