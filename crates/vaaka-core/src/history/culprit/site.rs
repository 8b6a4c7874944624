//! The reads of a site in sigmas of each instrument, about the level of each pair of instrument and standard.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::course::Best;
use super::{CrossRead, Suspect};
use crate::stats::{StatsError, median};

/// Fewest reads that say anything.
const FEWEST: usize = 12;
/// Values are cut off so many sigmas from the level of their pair.
const CLIPPED: f64 = 5.0;
/// Below this neighbouring checks are taken for independent.
const INDEPENDENT: f64 = 0.08;
/// Moments at which a change may begin.
const GRID: usize = 60;
/// Reads of a pair before it can tell of a change.
const HISTORY: usize = 3;

/// What has a level of its own: instrument, standard, and the stretch between known changes.
type Level = (usize, usize, usize);

/// One read, ready.
#[derive(Debug, Clone, Copy)]
pub(super) struct Read {
    pub time: f64,
    pub instrument: usize,
    pub standard: usize,
    pub pair: usize,
    /// In sigmas about the mean of its pair, divided by what autocorrelation takes from its worth.
    pub y: f64,
}

/// A suspect with the reads that it touches: place of the read and weight of the effect there.
#[derive(Debug)]
pub(super) struct Touched {
    pub suspect: Suspect,
    pub reads: Vec<(usize, f64)>,
    /// For an area: the instrument of each read, numbered within it.
    pub members: Option<(usize, Vec<usize>)>,
}

/// A site.
#[derive(Debug)]
pub(super) struct Site {
    pub reads: Vec<Read>,
    /// Reads of each pair.
    pub counts: Vec<f64>,
    /// Times at which a change may begin.
    pub grid: Vec<f64>,
    pub last: f64,
    pub sigmas: Vec<f64>,
    pub autocorrelation: f64,
    /// Standard deviation that one sigma has become.
    pub unit: f64,
    who: Vec<CrossRead>,
    first_shift: u32,
}

impl Site {
    pub(super) fn of(given: &[CrossRead]) -> Result<Self, StatsError> {
        if let Some(index) = given.iter().position(|read| !read.error.is_finite()) {
            return Err(StatsError::NotFinite { index });
        }
        let mut who = given.to_vec();
        who.sort_by_key(|read| read.shift);
        let mut pairs: BTreeMap<Level, Vec<usize>> = BTreeMap::new();
        for (place, read) in who.iter().enumerate() {
            let level = (read.instrument, read.standard, read.epoch);
            pairs.entry(level).or_default().push(place);
        }
        let instruments = who.iter().map(|read| read.instrument + 1).max().unwrap_or(0);
        let sigmas = sigmas(&who, &pairs, instruments);
        // An instrument without scatter, or read once, says nothing; nor does a pair that was read once.
        let speaks = |(instrument, ..): &Level, places: &[usize]| {
            sigmas[*instrument] > 0.0 && places.len() > 1
        };
        let mut reads = Vec::new();
        let (mut kept, mut counts) = (Vec::new(), Vec::new());
        let first_shift = who.first().map_or(0, |read| read.shift);
        let (mut products, mut squares) = (0.0, 0.0);
        for (key, places) in pairs.iter().filter(|(key, places)| speaks(key, places)) {
            let sigma = sigmas[key.0];
            let mut errors: Vec<f64> = places.iter().map(|place| who[*place].error).collect();
            let level = median(&mut errors);
            let z: Vec<f64> = places
                .iter()
                .map(|place| ((who[*place].error - level) / sigma).clamp(-CLIPPED, CLIPPED))
                .collect();
            // The first half: what changed later is no resemblance.
            let half = &z[..z.len().div_ceil(2)];
            let mean = half.iter().sum::<f64>() / half.len() as f64;
            products += half.windows(2).map(|two| (two[0] - mean) * (two[1] - mean)).sum::<f64>();
            squares += half[1..].iter().map(|z| (z - mean) * (z - mean)).sum::<f64>();
            let mean = z.iter().sum::<f64>() / z.len() as f64;
            let pair = counts.len();
            counts.push(z.len() as f64);
            for (place, z) in places.iter().zip(&z) {
                let read = who[*place];
                let time = f64::from(read.shift - first_shift);
                let (instrument, standard, _) = *key;
                reads.push(Read { time, instrument, standard, pair, y: z - mean });
                kept.push(read);
            }
        }
        if reads.len() < FEWEST {
            return Err(StatsError::TooFewPoints { required: FEWEST, got: reads.len() });
        }
        let autocorrelation =
            if squares > 0.0 { (products / squares).clamp(0.0, 0.95) } else { 0.0 };
        let inflated = if autocorrelation > INDEPENDENT {
            (1.0 + autocorrelation) / (1.0 - autocorrelation)
        } else {
            1.0
        };
        let unit = 1.0 / inflated.sqrt();
        reads.iter_mut().for_each(|read| read.y *= unit);
        let last = reads.iter().map(|read| read.time).fold(0.0, f64::max);
        let grid = grid(&reads, last);
        Ok(Self {
            reads,
            counts,
            grid,
            last,
            sigmas,
            autocorrelation,
            unit,
            who: kept,
            first_shift,
        })
    }

    /// When the newest stretch of an instrument between known changes began.
    pub(super) fn newest_epoch_from(&self, instrument: usize) -> f64 {
        let own =
            || self.who.iter().zip(&self.reads).filter(|(who, _)| who.instrument == instrument);
        let newest = own().max_by_key(|(who, _)| who.shift).map(|(who, _)| who.epoch);
        let of_newest = own().filter(|(who, _)| Some(who.epoch) == newest);
        of_newest.map(|(_, read)| read.time).fold(f64::INFINITY, f64::min)
    }

    /// Everybody and everything that may have changed. What touches all reads, or the same as another, is kept: it cannot be
    /// told from that, and says so.
    pub(super) fn suspects(&self) -> Vec<Touched> {
        let mut touched: BTreeMap<Suspect, Vec<(usize, f64)>> = BTreeMap::new();
        let references = self.reference_sigmas();
        for (place, read) in self.who.iter().enumerate() {
            let own = self.sigmas[read.instrument];
            // In the unit of the standard: an instrument that scatters more sees less of it.
            let of_standard = -references[&read.standard] / own;
            for (suspect, weight) in [
                (Suspect::Instrument(read.instrument), 1.0),
                (Suspect::Standard(read.standard), of_standard),
                (Suspect::Person(read.person), 1.0),
                (Suspect::Area(read.area), 1.0),
            ] {
                touched.entry(suspect).or_default().push((place, weight * self.unit));
            }
        }
        touched
            .into_iter()
            .map(|(suspect, reads)| {
                let members = matches!(suspect, Suspect::Area(_)).then(|| {
                    let all: BTreeSet<usize> =
                        reads.iter().map(|(place, _)| self.reads[*place].instrument).collect();
                    let number: HashMap<usize, usize> = all.into_iter().zip(0..).collect();
                    let of = |(place, _): &(usize, f64)| number[&self.reads[*place].instrument];
                    (number.len(), reads.iter().map(of).collect())
                });
                Touched { suspect, reads, members }
            })
            .collect()
    }

    /// Median sigma of the instruments that read a standard.
    fn reference_sigmas(&self) -> HashMap<usize, f64> {
        let mut own: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
        for read in &self.reads {
            own.entry(read.standard).or_default().insert(read.instrument);
        }
        own.into_iter()
            .map(|(standard, instruments)| {
                let mut all: Vec<f64> =
                    instruments.into_iter().map(|one| self.sigmas[one]).collect();
                (standard, median(&mut all))
            })
            .collect()
    }

    pub(super) fn shift_at(&self, time: f64) -> u32 {
        self.first_shift + time as u32
    }

    /// The pair of instrument and standard at which two explanations differ most, by how many squared sigmas a check. A pair
    /// without a history before the change has no level to differ from.
    pub(super) fn telling(
        &self,
        one: (&Touched, &Best),
        other: (&Touched, &Best),
    ) -> Option<(usize, usize, f64)> {
        let began = one.1.from.min(other.1.from);
        let mut before = vec![0.0; self.counts.len()];
        let mut pairs: BTreeMap<usize, (usize, usize)> = BTreeMap::new();
        let mut newest: HashMap<usize, usize> = HashMap::new();
        for who in &self.who {
            let epoch = newest.entry(who.instrument).or_default();
            *epoch = (*epoch).max(who.epoch);
        }
        for (read, who) in self.reads.iter().zip(&self.who) {
            // A level from before an adjustment is gone.
            if newest.get(&who.instrument) != Some(&who.epoch) {
                continue;
            }
            pairs.insert(read.pair, (read.instrument, read.standard));
            before[read.pair] += f64::from(u8::from(read.time < began));
        }
        let references = self.reference_sigmas();
        let area: HashMap<usize, usize> =
            self.who.iter().map(|read| (read.instrument, read.area)).collect();
        let shift = |(touched, best): (&Touched, &Best), (i, s): (usize, usize)| {
            let weight = match touched.suspect {
                Suspect::Instrument(own) => f64::from(u8::from(own == i)),
                Suspect::Standard(own) if own == s => -references[&s] / self.sigmas[i],
                Suspect::Area(own) => f64::from(u8::from(area.get(&i) == Some(&own))),
                // Somebody else makes it.
                Suspect::Standard(_) | Suspect::Person(_) => 0.0,
            };
            weight * best.size
        };
        pairs
            .into_iter()
            .filter(|(pair, _)| before[*pair] >= HISTORY as f64)
            .map(|(pair, (i, s))| {
                let differs = shift(one, (i, s)) - shift(other, (i, s));
                (i, s, differs * differs / (1.0 + 1.0 / before[pair]))
            })
            .filter(|(_, _, gain)| *gain > 0.05)
            .max_by(|a, b| a.2.total_cmp(&b.2))
    }
}

/// 1.4826·median|differences within a pair|/√2 of each instrument: a change in between is one difference among many.
fn sigmas(who: &[CrossRead], pairs: &BTreeMap<Level, Vec<usize>>, instruments: usize) -> Vec<f64> {
    let mut differences: Vec<Vec<f64>> = vec![Vec::new(); instruments];
    for ((instrument, ..), places) in pairs {
        let errors = places.windows(2).map(|two| (who[two[1]].error - who[two[0]].error).abs());
        differences[*instrument].extend(errors);
    }
    differences
        .into_iter()
        .map(|mut own| {
            let squares: f64 = own.iter().map(|d| d * d).sum();
            let plain = (squares / (2.0 * own.len().max(1) as f64)).sqrt();
            let robust = median(&mut own) * 1.4826 / std::f64::consts::SQRT_2;
            // A coarse display makes most differences nothing.
            if robust > 0.0 { robust } else { plain }
        })
        .collect()
}

fn grid(reads: &[Read], last: f64) -> Vec<f64> {
    let times: BTreeSet<u64> = reads.iter().map(|read| read.time as u64).collect();
    let times: Vec<f64> = times.into_iter().map(|time| time as f64).collect();
    // A change needs something before it and something after.
    let places = times.len().min(GRID);
    let mut grid: Vec<f64> = (1..places).map(|step| times[step * times.len() / places]).collect();
    grid.dedup();
    grid.retain(|time| *time > 0.0 && *time < last);
    grid
}
