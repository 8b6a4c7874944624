//! The simulated bench: it stands in for every instrument of the demo world at the other end of its line, continues its story,
//! and shows what the step of the open check has put on it. A page of its own gives it troubles.

mod on_bench;
mod page;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use tokio::net::TcpListener;
use vaaka_devices::stand_in::{Shows, Speech, serve, speak};
use vaaka_devices::{Address, Link};
use vaaka_store::ids::PersonId;
use vaaka_store::links::{self, LinkFields};
use vaaka_store::{By, Connection, Store, checks, instruments, registers};
use vaaka_web::Clock;

pub use on_bench::{Mood, OnBench};
pub use page::page;

use crate::AppError;
use crate::demo::{Gear, everyone};

/// The instrument that stands at a serial line instead of a port.
const SERIAL: &str = "R-05";

/// How the instruments of a method speak.
fn speech_of(gear: &Gear) -> Speech {
    match gear.family.method_key() {
        "weighing" => Speech::Words,
        "ultrasonic" => Speech::Signs,
        "assay" => Speech::Query,
        "spectrum" | "reflection" => Speech::Table,
        _ => Speech::Numbered,
    }
}

/// Those who play, by tag: of an instrument with cells one each.
fn players() -> Vec<(&'static str, Vec<&'static Gear>)> {
    let mut found: Vec<(&'static str, Vec<&'static Gear>)> = Vec::new();
    for gear in everyone() {
        match found.iter_mut().find(|(tag, _)| *tag == gear.tag) {
            Some((_, gears)) => gears.push(gear),
            None => found.push((gear.tag, vec![gear])),
        }
    }
    found
}

/// Where the lines of a bench are.
#[derive(Debug, Clone)]
pub struct Lines {
    /// The first of its ports; each instrument has one.
    pub first_port: u16,
    /// Folder of its serial lines, in /dev; none where it has no terminals.
    pub serial: Option<PathBuf>,
}

impl Lines {
    /// The lines of a bench by its first port: serial ones lie where the machine keeps shared memory, if it has that.
    #[must_use]
    pub fn at(first_port: u16) -> Self {
        let shared = Path::new("/dev/shm");
        let serial = shared.is_dir().then(|| shared.join(format!("vaaka-bench-{first_port}")));
        Self { first_port, serial }
    }

    fn address(&self, tag: &str, place: usize) -> String {
        match &self.serial {
            Some(folder) if tag == SERIAL => format!("{} 9600 8N1", folder.join(tag).display()),
            _ => {
                let port = usize::from(self.first_port) + place;
                format!("127.0.0.1:{port}")
            }
        }
    }
}

/// Says of every instrument of the demo world that stands on the bench how it is read.
///
/// # Errors
/// [`AppError::Store`].
pub async fn lay_lines(
    connection: &mut Connection,
    lines: &Lines,
    by: (PersonId, Timestamp),
) -> Result<usize, AppError> {
    let mut laid = 0;
    for (place, (tag, gears)) in players().into_iter().enumerate() {
        let Some(gear) = gears.first() else { continue };
        let (instrument, _) = instruments::by_tag(connection, tag).await?;
        let link = speech_of(gear).link(gear.unit);
        let fields = LinkFields {
            station: None,
            address: lines.address(tag, place),
            link: serde_json::to_value(&link).map_err(|cause| AppError::Demo(cause.to_string()))?,
            in_use: true,
        };
        let by = By { person: by.0, at: by.1 };
        links::save(connection, instrument.id, &fields, 0, by).await?;
        laid += 1;
    }
    Ok(laid)
}

/// An instrument on the bench, and where its line is.
#[derive(Debug, Clone)]
pub struct Stands {
    /// The instrument.
    pub shows: Arc<OnBench>,
    /// Where it is read.
    pub address: Address,
}

/// Sets up the instruments whose lines are in use and lead to this machine.
///
/// # Errors
/// [`AppError`].
pub async fn set_up(store: &Store, clock: Arc<dyn Clock>) -> Result<Vec<Stands>, AppError> {
    let mut connection = store.connection().await?;
    let ends_at = checks::newest(&mut connection).await?.map_or_else(|| clock.now(), |at| at.0);
    let gears: HashMap<&str, Vec<&'static Gear>> = players().into_iter().collect();
    let mut found = Vec::new();
    for (row, tag, name) in links::all(&mut connection).await? {
        let (Some(gears), true) = (gears.get(tag.as_str()), row.in_use) else { continue };
        let Ok(address) = row.address.parse::<Address>() else { continue };
        let here = match &address {
            Address::Network { host, .. } => host == "127.0.0.1",
            Address::Serial { path, .. } => path.starts_with("/dev/shm/vaaka-bench-"),
        };
        let Some(speech) = gears.first().map(|gear| speech_of(gear)).filter(|_| here) else {
            continue;
        };
        // A line that a lead has changed is somebody's real one.
        let link: Option<Link> = serde_json::from_value(row.link).ok();
        if link.is_none_or(|link| link.way != speech.link("").way) {
            continue;
        }
        let events = registers::events(&connection, row.instrument_id).await?;
        let applied = events.iter().filter_map(|(event, _)| event.applied_correction).sum();
        let shows = OnBench::new(
            (store.clone(), clock.clone()),
            (row.instrument_id, &tag, &name),
            gears.clone(),
            (speech, ends_at, applied),
        );
        found.push(Stands { shows: Arc::new(shows), address });
    }
    Ok(found)
}

/// Answers on every line until it is dropped; says where one cannot be.
///
/// # Errors
/// [`AppError::Io`] where a port is somebody else's.
pub async fn answer(stands: &[Stands]) -> Result<(), AppError> {
    let mut lines = tokio::task::JoinSet::new();
    for one in stands {
        let shows = Arc::clone(&one.shows);
        match &one.address {
            Address::Network { host, port } => {
                let listener =
                    TcpListener::bind((host.as_str(), *port)).await.map_err(|cause| {
                        AppError::Io {
                            what: format!("the line of {} at {}", shows.tag(), one.address),
                            cause,
                        }
                    })?;
                lines.spawn(serve(listener, shows));
            }
            Address::Serial { path, .. } => {
                let path = PathBuf::from(path);
                lines.spawn(async move {
                    if let Err(cause) = terminal(&path, &*shows).await {
                        tracing::error!(%cause, path = %path.display(), "a serial line of the bench ended");
                    }
                });
            }
        }
    }
    while lines.join_next().await.is_some() {}
    Ok(())
}

/// `O_NOCTTY` of Linux: a terminal that is opened does not become that of this process.
const NO_CONTROLLING_TERMINAL: i32 = 0o400;

/// A pseudo-terminal behind a name: whoever opens the name speaks to the instrument.
async fn terminal(path: &Path, shows: &dyn Shows) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    use tokio_serial::{SerialPort, SerialStream};
    let (mut its, own) = SerialStream::pair()?;
    let name = own.name().ok_or_else(|| std::io::Error::other("a terminal without a name"))?;
    // Held open as a plain file, so that it lives on between two readers, who want the line for themselves alone.
    let held = std::fs::OpenOptions::new()
        .read(true)
        .write(true)
        .custom_flags(NO_CONTROLLING_TERMINAL)
        .open(&name)?;
    drop(own);
    if let Some(folder) = path.parent() {
        tokio::fs::create_dir_all(folder).await?;
    }
    let _ = tokio::fs::remove_file(path).await;
    tokio::fs::symlink(name, path).await?;
    loop {
        // A line that breaks off in trouble is plugged in again.
        if let Err(cause) = speak(&mut its, shows).await {
            tracing::debug!(%cause, ?held, "a serial line of the bench was pulled");
            tokio::time::sleep(std::time::Duration::from_millis(200)).await;
        }
    }
}
