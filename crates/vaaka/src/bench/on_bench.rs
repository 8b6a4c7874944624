//! One instrument on the bench: what its display shows now.

use std::str::FromStr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use jiff::Timestamp;
use rust_decimal::Decimal;
use tokio::sync::watch;
use vaaka_core::method::{Input, Purpose, Step, by_key};
use vaaka_core::quantity::{Unit, to_f64};
use vaaka_devices::stand_in::{Display, Shows, Speech, Trouble};
use vaaka_store::ids::{CertificateId, CheckId, InstrumentId};
use vaaka_store::{Store, StoreError, checks, entries, plans, unreadable_word};
use vaaka_web::Clock;

use crate::demo::{Gear, Noise, Played};

/// What an instrument is given to suffer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mood {
    /// Nothing.
    Well,
    /// Its display does not stand still.
    Unsteady,
    /// Another piece lies on it than the step says.
    WrongPiece,
    /// Somebody knocked it: it reads too much.
    Knocked,
    /// It is set to another unit.
    OtherUnit,
    /// Its line suffers.
    Line(Trouble),
}

impl Mood {
    /// All of them, with the word of a form and what a list calls them.
    pub const ALL: [(Self, &'static str, &'static str); 9] = [
        (Self::Well, "well", "none"),
        (Self::Unsteady, "unsteady", "unstable reading"),
        (Self::WrongPiece, "wrong_piece", "wrong piece"),
        (Self::Knocked, "knocked", "knocked"),
        (Self::OtherUnit, "other_unit", "wrong unit"),
        (Self::Line(Trouble::Unplugged), "unplugged", "unplugged in mid-reading"),
        (Self::Line(Trouble::Garbage), "garbage", "garbage"),
        (Self::Line(Trouble::Slow), "slow", "slow"),
        (Self::Line(Trouble::Mute), "mute", "silent"),
    ];

    /// The word of a form.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|one| one.0 == self).map_or("", |one| one.1)
    }
}

impl FromStr for Mood {
    type Err = ();

    fn from_str(word: &str) -> Result<Self, ()> {
        Self::ALL.iter().find(|one| one.1 == word).map(|one| one.0).ok_or(())
    }
}

/// An instrument on the bench.
#[derive(Debug)]
pub struct OnBench {
    store: Store,
    clock: Arc<dyn Clock>,
    instrument: InstrumentId,
    tag: String,
    name: String,
    gears: Vec<&'static Gear>,
    speech: Speech,
    ends_at: Timestamp,
    applied: f64,
    mood: Mutex<Mood>,
    noise: Mutex<Noise>,
    presses: watch::Sender<u64>,
}

/// What an open check has put on an instrument.
#[derive(Debug)]
pub struct Loaded {
    /// The check.
    pub check: CheckId,
    /// Its step.
    pub step: Step,
    gear: &'static Gear,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // What it holds is whole at every moment.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl OnBench {
    pub(super) fn new(
        (store, clock): (Store, Arc<dyn Clock>),
        (instrument, tag, name): (InstrumentId, &str, &str),
        gears: Vec<&'static Gear>,
        (speech, ends_at, applied): (Speech, Timestamp, Decimal),
    ) -> Self {
        let seed = instrument.0.unsigned_abs();
        Self {
            store,
            clock,
            instrument,
            tag: tag.to_owned(),
            name: name.to_owned(),
            gears,
            speech,
            ends_at,
            applied: to_f64(applied),
            mood: Mutex::new(Mood::Well),
            noise: Mutex::new(Noise::seeded(seed)),
            presses: watch::Sender::new(0),
        }
    }

    /// Its tag.
    #[must_use]
    pub fn tag(&self) -> &str {
        &self.tag
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What it suffers.
    #[must_use]
    pub fn mood(&self) -> Mood {
        *locked(&self.mood)
    }

    /// Gives it something to suffer.
    pub fn set_mood(&self, mood: Mood) {
        *locked(&self.mood) = mood;
    }

    /// Whether it sends by a key of its own.
    #[must_use]
    pub fn has_key(&self) -> bool {
        self.speech == Speech::Numbered
    }

    /// Presses its key.
    pub fn press(&self) {
        self.presses.send_modify(|count| *count += 1);
    }

    /// What the newest open check on it asks for now.
    ///
    /// # Errors
    /// [`StoreError`].
    pub async fn loaded(&self) -> Result<Option<Loaded>, StoreError> {
        let mut connection = self.store.connection().await?;
        let Some(check) = checks::open_on(&mut connection, self.instrument).await? else {
            return Ok(None);
        };
        let now = entries::check_now(&connection, check).await?;
        let purpose: Purpose =
            now.check.purpose.parse().map_err(|_| unreadable_word(&now.check.purpose))?;
        let view = plans::version(&mut connection, now.check.plan_version_id).await?;
        let used: Vec<CertificateId> = now.standards.iter().map(|used| used.certificate).collect();
        let spec = plans::spec(&mut connection, &view, &used, purpose).await?;
        let method = by_key(&view.plan.method_key)?;
        let run = now.entries.run_state()?;
        let way = method.way(&spec)?;
        let Some((step, _)) = run.next(&way) else { return Ok(None) };
        let step = method.settle(&spec, &run, step)?;
        let of_cell = self.gears.iter().find(|gear| {
            gear.family.method_key() == view.plan.method_key
                && gear.family.cell().is_none_or(|(cell, _)| Some(cell) == view.cell.as_deref())
        });
        let gear = of_cell.or(self.gears.first()).copied();
        Ok(gear.map(|gear| Loaded { check, step, gear }))
    }

    fn played(&self, loaded: &Loaded) -> Played {
        let left = self.ends_at.duration_since(self.clock.now()).as_secs_f64() / 86_400.0;
        let gear = loaded.gear;
        // One draw a check, as all its readings have it in common.
        let own = Noise::seeded(loaded.check.0.unsigned_abs()).normal();
        let d = gear.resolution.parse::<f64>().unwrap_or_default();
        let knock = match self.mood() {
            Mood::Knocked => 12.0 * gear.between.max(d),
            _ => 0.0,
        };
        Played {
            gear,
            left,
            disturbed: false,
            offset: self.applied + knock,
            disturbance: gear.between * own,
        }
    }

    async fn shown(&self) -> Result<Option<Display>, StoreError> {
        let Some(mut loaded) = self.loaded().await? else { return Ok(None) };
        if self.mood() == Mood::WrongPiece
            && let Some(value) = loaded.step.reference_value
        {
            loaded.step.reference_value = Some(value / Decimal::TWO);
        }
        let Input::Reading { unit, resolution, .. } = loaded.step.input else { return Ok(None) };
        let falls = loaded.step.key.0.ends_with("falling");
        let played = self.played(&loaded);
        let read = played.display(&loaded.step, falls, &mut locked(&self.noise));
        let Some((mut value, _)) = read else { return Ok(None) };
        let steady = self.mood() != Mood::Unsteady;
        if !steady {
            value += resolution * Decimal::from(locked(&self.noise).whole(-9, 9));
        }
        if self.mood() == Mood::OtherUnit {
            let (text, unit) = in_other_unit(value, unit);
            return Ok(Some(Display { text, unit: unit.symbol().to_owned(), steady }));
        }
        Ok(Some(Display { text: value.to_string(), unit: unit.symbol().to_owned(), steady }))
    }

    /// What stands on its display where nothing is on it.
    fn empty(&self) -> Display {
        let gear = self.gears.first();
        let step: Option<Decimal> = gear.and_then(|gear| gear.resolution.parse().ok());
        let mut zero = Decimal::ZERO;
        zero.rescale(step.map_or(0, |step| step.scale()));
        let unit = gear.map_or("", |gear| gear.unit);
        Display { text: zero.to_string(), unit: unit.to_owned(), steady: true }
    }
}

/// A value in a unit that such an instrument has beside its own; of another quantity where it has none.
fn in_other_unit(value: Decimal, unit: Unit) -> (String, Unit) {
    let other = [Unit::Pound, Unit::Inch, Unit::Psi]
        .into_iter()
        .find_map(|other| unit.try_convert(value, other).ok().map(|value| (value, other)));
    match other {
        Some((value, other)) => (value.round_dp(4).to_string(), other),
        None => (value.to_string(), Unit::DegreeCelsius),
    }
}

#[async_trait]
impl Shows for OnBench {
    fn speech(&self) -> Speech {
        self.speech
    }

    fn trouble(&self) -> Trouble {
        match self.mood() {
            Mood::Line(trouble) => trouble,
            _ => Trouble::None,
        }
    }

    async fn display(&self) -> Display {
        match self.shown().await {
            Ok(shown) => shown.unwrap_or_else(|| self.empty()),
            Err(error) => {
                tracing::warn!(%error, tag = self.tag, "the bench does not know what is on it");
                self.empty()
            }
        }
    }

    async fn file(&self) -> Vec<u8> {
        let Ok(Some(loaded)) = self.loaded().await else { return Vec::new() };
        let Input::Trace { wanted, peaks, .. } = &loaded.step.input else { return Vec::new() };
        let played = self.played(&loaded);
        let asked = (wanted, peaks.as_slice(), &loaded.step);
        played.trace(asked, &mut locked(&self.noise)).unwrap_or_default().into_bytes()
    }

    async fn pressed(&self) -> u64 {
        let mut presses = self.presses.subscribe();
        match presses.changed().await {
            Ok(()) => *presses.borrow_and_update(),
            // It is put away.
            Err(_) => std::future::pending().await,
        }
    }
}
