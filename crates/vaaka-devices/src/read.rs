//! Reading an instrument once: opened, asked, listened to until a value stands still or the time is over, closed again.

use std::time::Duration;

use rust_decimal::Decimal;
use thiserror::Error;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::{Instant, sleep, timeout, timeout_at};

use crate::address::{Address, Line};
use crate::block::{self, Block, BlockFault};
use crate::link::{LineFault, MOST_LINE, Reading, Ready, Way};
use crate::text::shown;

/// What came of an instrument.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// A number, with the line that it was read from, as it came.
    Number {
        /// The line, without its end.
        raw: Vec<u8>,
        /// What it says.
        reading: Reading,
    },
    /// A whole file.
    File {
        /// Its bytes.
        bytes: Vec<u8>,
    },
}

impl Answer {
    /// What came, to look at.
    #[must_use]
    pub fn shown(&self) -> String {
        match self {
            Self::Number { raw, .. } => shown(raw, 200),
            Self::File { bytes } => format!("{} bytes: {}", bytes.len(), shown(bytes, 120)),
        }
    }
}

/// Why nothing was read. The words say what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LinkError {
    /// It cannot be reached.
    #[error(
        "No connection to {address} ({cause}). Check that the instrument is on and its cable is plugged in, and read again, or type the value."
    )]
    Unreachable {
        /// Where.
        address: String,
        /// What the machine says.
        cause: String,
    },
    /// It says nothing.
    #[error(
        "The instrument sent nothing within {0}. Check that it is on and set to send, and read again, or type the value."
    )]
    Silent(String),
    /// Nobody pressed its key.
    #[error(
        "The print key was not pressed within {0}. Press Read, then the print key on the instrument, or type the value."
    )]
    NoKey(String),
    /// The line broke.
    #[error(
        "The connection was lost in mid-reading{got}. Nothing of it is used. Check the cable, and read again, or type the value."
    )]
    Broken {
        /// What had come, as a part of a sentence.
        got: String,
    },
    /// It sends something else.
    #[error(
        "What the instrument sends is no reading, last “{last}”: {fault}. Check its display, and read again, or type the value."
    )]
    NoValue {
        /// The last line.
        last: String,
        /// Why it is none.
        fault: String,
    },
    /// It does not stand still.
    #[error(
        "The reading is not stable, last {last}. Check for draught, vibration and anything that still moves, and read again when it is stable."
    )]
    Unstable {
        /// The last value.
        last: String,
    },
    /// No block.
    #[error(
        "What was received is no trace: {0}. Check that the instrument has measured, and read again, or send its file."
    )]
    NoBlock(String),
}

/// How long nothing comes before what was sent unasked is over; longer on lines so slow that a character takes as long.
pub const STALE: Duration = Duration::from_millis(15);
/// How long after an answer that does not stand still it is asked again.
const ASK_AGAIN: Duration = Duration::from_millis(100);
/// How long nothing more comes before an indefinite block is taken as whole.
const QUIET: Duration = Duration::from_millis(60);
/// How often a line that somebody else has open is tried again.
const TRY_AGAIN: Duration = Duration::from_millis(100);

fn seconds(link: &Ready) -> String {
    format!("{} s", Decimal::new(i64::from(link.link.timeout_ms), 3).normalize())
}

/// Reads an instrument once.
///
/// # Errors
/// [`LinkError`].
pub async fn read(address: &Address, link: &Ready) -> Result<Answer, LinkError> {
    let until = Instant::now() + Duration::from_millis(link.link.timeout_ms.into());
    let unreachable =
        |cause: String| LinkError::Unreachable { address: address.to_string(), cause };
    let mut line = loop {
        match timeout_at(until, address.open()).await {
            Ok(Ok(line)) => break line,
            // Somebody else is about to let it go.
            Ok(Err(cause)) if is_busy(&cause) && Instant::now() + TRY_AGAIN < until => {
                sleep(TRY_AGAIN).await;
            }
            Ok(Err(cause)) if is_busy(&cause) => {
                return Err(unreachable("another program has the line open".into()));
            }
            Ok(Err(cause)) => return Err(unreachable(said(&cause))),
            Err(_) => return Err(unreachable("no answer".into())),
        }
    };
    read_from(&mut *line, link, (until, STALE.max(address.characters(3)))).await
}

/// Whether a serial line is somebody else's just now.
fn is_busy(cause: &std::io::Error) -> bool {
    cause.kind() == std::io::ErrorKind::ResourceBusy || cause.to_string().contains("exclusive lock")
}

/// What a machine says of a failure, without its number.
fn said(cause: &std::io::Error) -> String {
    let text = cause.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}

/// Reads from a line that is open, until a moment at the latest; for so long nothing must come before what comes is nobody's.
///
/// # Errors
/// [`LinkError`].
pub async fn read_from<L: Line + ?Sized>(
    line: &mut L,
    link: &Ready,
    (until, stale): (Instant, Duration),
) -> Result<Answer, LinkError> {
    // What streams is met in the middle of a line; so is whatever sends just now.
    let mut whole = false;
    if link.link.way != Way::Streams {
        whole = drained(line, stale).await?;
    }
    ask(line, link, until).await?;
    if link.link.way == Way::Block {
        return file(line, link, until).await;
    }
    number(line, link, until, whole).await
}

async fn ask<L: Line + ?Sized>(
    line: &mut L,
    link: &Ready,
    until: Instant,
) -> Result<(), LinkError> {
    if link.ask.is_empty() {
        return Ok(());
    }
    let broken = |_| LinkError::Broken { got: String::new() };
    let sent = async {
        line.write_all(&link.ask).await.map_err(broken)?;
        line.flush().await.map_err(broken)
    };
    timeout_at(until, sent).await.unwrap_or_else(|_| Err(LinkError::Silent(seconds(link))))
}

/// What came and is not looked at yet.
#[derive(Debug, Default)]
struct Came {
    bytes: Vec<u8>,
    /// Bytes of a line that is longer than any value's: thrown away up to its end.
    overlong: bool,
}

enum Next {
    Line(Vec<u8>),
    Over,
}

/// Throws away what was sent before anybody asked. False where that broke off in the middle of a line: the rest of it, still to
/// come, would be a smaller number.
async fn drained<L: Line + ?Sized>(line: &mut L, stale: Duration) -> Result<bool, LinkError> {
    let mut old = [0_u8; 4096];
    let mut whole = true;
    for _ in 0..64 {
        match timeout(stale, line.read(&mut old)).await {
            Ok(Ok(0) | Err(_)) => return Err(LinkError::Broken { got: String::new() }),
            Ok(Ok(n)) => whole = matches!(old[n - 1], b'\r' | b'\n'),
            Err(_) => return Ok(whole),
        }
    }
    Ok(false)
}

impl Came {
    /// The next line that holds anything.
    async fn next<L: Line + ?Sized>(
        &mut self,
        line: &mut L,
        link: &Ready,
        until: Instant,
    ) -> Result<Next, LinkError> {
        loop {
            while let Some(end) = self.bytes.iter().position(|byte| link.link.line_end.ends(*byte))
            {
                let whole: Vec<u8> = self.bytes.drain(..=end).take(end).collect();
                if std::mem::take(&mut self.overlong) {
                    continue;
                }
                if !whole.iter().all(u8::is_ascii_whitespace) {
                    return Ok(Next::Line(whole));
                }
            }
            if self.bytes.len() > MOST_LINE {
                self.bytes.clear();
                self.overlong = true;
            }
            let mut more = [0_u8; 1024];
            match timeout_at(until, line.read(&mut more)).await {
                Err(_) => return Ok(Next::Over),
                Ok(Ok(0) | Err(_)) => {
                    let got = match self.bytes.as_slice() {
                        [] => String::new(),
                        part => format!(", after “{}”", shown(part, 60)),
                    };
                    return Err(LinkError::Broken { got });
                }
                Ok(Ok(n)) => self.bytes.extend_from_slice(&more[..n]),
            }
        }
    }
}

/// What was seen until the time was over.
#[derive(Default)]
struct Seen {
    /// The last line that gave no value, and why.
    odd: Option<(Vec<u8>, LineFault)>,
    /// The last value that did not stand.
    moving: Option<Reading>,
    /// A value that stands since.
    standing: Option<(Decimal, Instant)>,
}

impl Seen {
    fn over(self, link: &Ready) -> LinkError {
        match (self.moving, self.odd) {
            (Some(last), _) => {
                let unit = last.unit.map(|unit| format!(" {unit}")).unwrap_or_default();
                LinkError::Unstable { last: format!("{}{unit}", last.value) }
            }
            (None, Some((last, fault))) => {
                LinkError::NoValue { last: shown(&last, 80), fault: fault.to_string() }
            }
            (None, None) if link.link.way == Way::OwnKey => LinkError::NoKey(seconds(link)),
            (None, None) => LinkError::Silent(seconds(link)),
        }
    }
}

async fn number<L: Line + ?Sized>(
    line: &mut L,
    link: &Ready,
    until: Instant,
    mut whole: bool,
) -> Result<Answer, LinkError> {
    let mut came = Came::default();
    let settle = Duration::from_millis(link.link.settle_ms.into());
    let mut seen = Seen::default();
    loop {
        let raw = match came.next(line, link, until).await? {
            Next::Line(raw) => raw,
            Next::Over => return Err(seen.over(link)),
        };
        if !std::mem::replace(&mut whole, true) {
            if link.link.way == Way::Asked && !ask_again(line, link, until).await? {
                return Err(seen.over(link));
            }
            continue;
        }
        let reading = match link.line(&raw) {
            Ok(reading) => reading,
            // A line that repeats the question says nothing.
            Err(_) if !link.ask.is_empty() && raw.trim_ascii() == link.ask.trim_ascii() => continue,
            Err(fault) => {
                seen.odd = Some((raw, fault));
                if link.link.way == Way::Asked && !ask_again(line, link, until).await? {
                    return Err(seen.over(link));
                }
                continue;
            }
        };
        let now = Instant::now();
        let stands = reading.stable != Some(false);
        let since = match seen.standing {
            Some((value, since)) if value == reading.value => since,
            _ => now,
        };
        seen.standing = stands.then_some((reading.value, since));
        // One press of its key is one value: whoever pressed has looked.
        let waited = link.link.way == Way::OwnKey || now.duration_since(since) >= settle;
        if stands && waited {
            return Ok(Answer::Number { raw, reading });
        }
        seen.moving = Some(reading);
        if link.link.way == Way::Asked && !ask_again(line, link, until).await? {
            return Err(seen.over(link));
        }
    }
}

/// Asks again after a moment; false when the time is over.
async fn ask_again<L: Line + ?Sized>(
    line: &mut L,
    link: &Ready,
    until: Instant,
) -> Result<bool, LinkError> {
    if Instant::now() + ASK_AGAIN >= until {
        return Ok(false);
    }
    sleep(ASK_AGAIN).await;
    ask(line, link, until).await?;
    Ok(true)
}

async fn file<L: Line + ?Sized>(
    line: &mut L,
    link: &Ready,
    until: Instant,
) -> Result<Answer, LinkError> {
    let mut came: Vec<u8> = Vec::new();
    let mut more = vec![0_u8; 64 * 1024];
    let no_block = |fault: BlockFault| LinkError::NoBlock(fault.to_string());
    loop {
        let state = block::block(&came).map_err(no_block)?;
        let indefinite = came.trim_ascii_start().starts_with(b"#0");
        let wait = match (&state, indefinite) {
            (Block::Whole(range), false) => {
                return Ok(Answer::File { bytes: came[range.clone()].to_vec() });
            }
            (Block::Whole(_), true) => (Instant::now() + QUIET).min(until),
            (Block::More, _) => until,
        };
        match (timeout_at(wait, line.read(&mut more)).await, state) {
            (Err(_), Block::Whole(range)) => {
                return Ok(Answer::File { bytes: came[range].to_vec() });
            }
            (Err(_), Block::More) if came.is_empty() => {
                return Err(LinkError::Silent(seconds(link)));
            }
            (Err(_), Block::More) => {
                let words = format!("only {} bytes of it came", came.len());
                return Err(LinkError::NoBlock(words));
            }
            // What ends by closing is whole where it may end anywhere.
            (Ok(Ok(0) | Err(_)), Block::Whole(range)) => {
                return Ok(Answer::File { bytes: came[range].to_vec() });
            }
            (Ok(Ok(0) | Err(_)), Block::More) => {
                let got = match came.len() {
                    0 => String::new(),
                    n => format!(", after {n} bytes"),
                };
                return Err(LinkError::Broken { got });
            }
            (Ok(Ok(n)), _) => came.extend_from_slice(&more[..n]),
        }
    }
}
