//! Stand-ins for instruments: the line of one, spoken as its family speaks it, with the troubles that a line can have. What they
//! show is whoever's answers for them ([`Shows`]); their ways of speaking are made up, but for the blocks and numbers of the
//! published standards that [`crate::block`] and [`crate::link`] name.

use std::time::Duration;

use async_trait::async_trait;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::time::{interval, sleep};

use crate::address::Line;
use crate::block;
use crate::link::{LineEnd, Link, Way};

/// How a stand-in speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Speech {
    /// Asked in a word, it answers in words: “gross +20.016 kg steady”.
    Words,
    /// Its key is pressed, it sends a numbered line: “17;17.602;mm”.
    Numbered,
    /// Line after line, with a sign for what still moves: “= 17.60 mm”.
    Signs,
    /// Asked by a query, it answers a bare number in powers of ten (SCPI): “+1.7602E+01”.
    Query,
    /// Asked by a query, it answers a block that holds its file.
    Table,
}

/// How often one streams.
const EVERY: Duration = Duration::from_millis(150);

impl Speech {
    /// The link that reads it. `unit` is that of a bare number.
    #[must_use]
    pub fn link(self, unit: &str) -> Link {
        let of = |way, ask: &str, pattern: &str| Link {
            way,
            ask: ask.to_owned(),
            line_end: LineEnd::Any,
            pattern: pattern.to_owned(),
            stable_mark: String::new(),
            units: vec![],
            unit: String::new(),
            timeout_ms: 4_000,
            settle_ms: 0,
        };
        match self {
            Self::Words => Link {
                stable_mark: "steady".into(),
                ..of(
                    Way::Asked,
                    "weight?\\r\\n",
                    r"gross (?<value>[+-]\d+(\.\d+)?) (?<unit>\S+) (?<stable>steady|moving)",
                )
            },
            Self::Numbered => Link {
                timeout_ms: 20_000,
                ..of(Way::OwnKey, "", r"\d+;(?<value>-?\d+(\.\d+)?);(?<unit>[^;]+)")
            },
            Self::Signs => Link {
                stable_mark: "=".into(),
                settle_ms: 400,
                ..of(Way::Streams, "", r"(?<stable>[=~]) +(?<value>-?\d+(\.\d+)?) (?<unit>\S+)")
            },
            Self::Query => Link {
                unit: unit.to_owned(),
                ..of(Way::Asked, "READ?\\n", r"(?<value>[+-]\d\.\d+E[+-]\d{2})")
            },
            Self::Table => Link { timeout_ms: 10_000, ..of(Way::Block, "READ:TABLE?\\n", "") },
        }
    }
}

/// What a stand-in shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Display {
    /// The digits.
    pub text: String,
    /// Its unit.
    pub unit: String,
    /// Whether it stands still.
    pub steady: bool,
}

/// What a line can suffer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Trouble {
    /// Nothing.
    #[default]
    None,
    /// Its cable is pulled in the middle of an answer.
    Unplugged,
    /// Something else comes than what it says.
    Garbage,
    /// It takes its time.
    Slow,
    /// It says nothing.
    Mute,
}

/// What stands behind a line.
#[async_trait]
pub trait Shows: Send + Sync {
    /// How it speaks.
    fn speech(&self) -> Speech;
    /// What its line suffers now.
    fn trouble(&self) -> Trouble;
    /// What its display shows now.
    async fn display(&self) -> Display;
    /// The file of what it measured last.
    async fn file(&self) -> Vec<u8>;
    /// Resolves when its key is pressed, with how often it has been.
    async fn pressed(&self) -> u64;
}

/// A number in the form of SCPI's NR3, with all digits of the display.
fn in_powers(text: &str) -> String {
    let (sign, body) = match text.strip_prefix('-') {
        Some(body) => ('-', body),
        None => ('+', text),
    };
    let (whole, part) = body.split_once('.').unwrap_or((body, ""));
    let digits = format!("{whole}{part}");
    let lead = digits.chars().take_while(|digit| *digit == '0').count();
    let significant = digits.get(lead..).unwrap_or_default();
    if significant.is_empty() {
        return format!("{sign}0.{}E+00", if part.is_empty() { "0" } else { part });
    }
    let power = i64::try_from(whole.len()).unwrap_or(0) - i64::try_from(lead).unwrap_or(0) - 1;
    let (first, rest) = significant.split_at(1);
    let rest = if rest.is_empty() { "0" } else { rest };
    let mark = if power < 0 { '-' } else { '+' };
    format!("{sign}{first}.{rest}E{mark}{:02}", power.abs())
}

impl Display {
    /// As a line of a speech; `count` numbers what is sent by a key.
    #[must_use]
    pub fn line(&self, speech: Speech, count: u64) -> String {
        let Self { text, unit, steady } = self;
        match speech {
            Speech::Words => {
                let sign = if text.starts_with('-') { "" } else { "+" };
                let state = if *steady { "steady" } else { "moving" };
                format!("gross {sign}{text} {unit} {state}\r\n")
            }
            Speech::Numbered => format!("{count};{text};{unit}\r\n"),
            Speech::Signs => format!("{} {text} {unit}\r", if *steady { '=' } else { '~' }),
            Speech::Query | Speech::Table => format!("{}\n", in_powers(text)),
        }
    }
}

/// Sends something through what the line suffers; an error where it broke.
async fn send<L: Line + ?Sized>(
    line: &mut L,
    trouble: Trouble,
    bytes: &[u8],
) -> std::io::Result<()> {
    match trouble {
        Trouble::Mute => return Ok(()),
        Trouble::Slow => sleep(Duration::from_millis(2_500)).await,
        Trouble::Unplugged => {
            line.write_all(&bytes[..bytes.len() / 2]).await?;
            line.flush().await?;
            return Err(std::io::Error::other("unplugged"));
        }
        Trouble::Garbage => {
            let noise: Vec<u8> = bytes
                .iter()
                .map(|byte| if matches!(byte, b'\r' | b'\n') { *byte } else { byte ^ 0xc5 })
                .collect();
            return line.write_all(&noise).await;
        }
        Trouble::None => {}
    }
    line.write_all(bytes).await?;
    line.flush().await
}

/// Speaks on a line until that ends or breaks.
///
/// # Errors
/// What the line says.
pub async fn speak<L: Line + ?Sized>(line: &mut L, shows: &dyn Shows) -> std::io::Result<()> {
    let speech = shows.speech();
    let mut heard = Vec::new();
    let mut more = [0_u8; 256];
    let mut beat = interval(EVERY);
    loop {
        tokio::select! {
            read = line.read(&mut more) => {
                let n = read?;
                if n == 0 {
                    return Ok(());
                }
                heard.extend_from_slice(&more[..n]);
                heard.truncate(4_096);
            }
            _ = beat.tick(), if speech == Speech::Signs => {
                let text = shows.display().await.line(speech, 0);
                send(line, shows.trouble(), text.as_bytes()).await?;
            }
            count = shows.pressed(), if speech == Speech::Numbered => {
                let text = shows.display().await.line(speech, count);
                send(line, shows.trouble(), text.as_bytes()).await?;
            }
        }
        while let Some(end) = heard.iter().position(|byte| matches!(byte, b'\r' | b'\n')) {
            let asked: Vec<u8> = heard.drain(..=end).take(end).collect();
            let answer = match (speech, asked.as_slice()) {
                (Speech::Words, b"weight?") | (Speech::Query, b"READ?") => {
                    shows.display().await.line(speech, 0).into_bytes()
                }
                (Speech::Table, b"READ:TABLE?") => block::of(&shows.file().await),
                _ => continue,
            };
            send(line, shows.trouble(), &answer).await?;
        }
    }
}

/// Speaks to everybody who comes to a port, one line each.
pub async fn serve<S: Shows + 'static>(listener: TcpListener, shows: std::sync::Arc<S>) {
    while let Ok((mut line, _)) = listener.accept().await {
        let shows = std::sync::Arc::clone(&shows);
        // Whoever leaves in the middle leaves; the next one is answered.
        tokio::spawn(async move { speak(&mut line, &*shows).await });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("17.602", "+1.7602E+01")]
    #[case("-0.0040", "-4.0E-03")]
    #[case("0.00", "+0.00E+00")]
    #[case("250", "+2.50E+02")]
    #[case("7", "+7.0E+00")]
    fn numbers_in_powers(#[case] text: &str, #[case] sent: &str) {
        assert_eq!(in_powers(text), sent);
        let link = Speech::Query.link("mm").ready().unwrap();
        let read = link.line(sent.as_bytes()).unwrap();
        assert_eq!(read.value, text.parse().unwrap());
    }

    /// Each way of speaking is read by the link that goes with it.
    #[test]
    fn every_speech_is_read_by_its_link() {
        for speech in [Speech::Words, Speech::Numbered, Speech::Signs, Speech::Query] {
            let link = speech.link("kg").ready().unwrap();
            for (text, steady) in
                [("20.016", true), ("-0.004", true), ("0", false), ("12.50", true)]
            {
                let display = Display { text: text.into(), unit: "kg".into(), steady };
                let line = display.line(speech, 4);
                let read = link.line(line.trim_ascii().as_bytes()).unwrap();
                assert_eq!(read.value, text.parse().unwrap(), "{line:?}");
                assert_eq!(read.unit.as_deref(), Some("kg"));
                assert!(read.stable.is_none_or(|stable| stable == steady));
            }
        }
        assert!(Speech::Table.link("").ready().is_ok());
    }
}
