//! Where an instrument is: a port of the network, or a serial line.

use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use thiserror::Error;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio_serial::{DataBits, FlowControl, Parity, SerialPortBuilderExt, StopBits};

/// Where an instrument is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// A port of the network: the instrument's own, or that of a converter beside it.
    Network {
        /// Name or number of the machine.
        host: String,
        /// Port.
        port: u16,
    },
    /// A serial line of the machine that reads.
    Serial {
        /// Its device.
        path: String,
        /// Bits a second.
        baud: u32,
        /// Data bits, 5 to 8.
        data_bits: u8,
        /// N, E or O.
        parity: char,
        /// Stop bits, 1 or 2.
        stop_bits: u8,
    },
}

/// Why a text is no address. The words say what to write.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AddressFault {
    /// Nothing.
    #[error(
        "Type the address: host and port like “10.20.0.7:4001”, or a serial port like “/dev/ttyUSB0 9600 8N1”."
    )]
    Empty,
    /// No port.
    #[error("“{0}” has no port. Type host and port, like “10.20.0.7:4001”.")]
    NoPort(String),
    /// A port that is none.
    #[error("“{0}” is no port. It is a number from 1 to 65535.")]
    BadPort(String),
    /// A name that is none.
    #[error("“{0}” is no host name. It has letters, digits, points and hyphens.")]
    BadHost(String),
    /// A serial line that is not one.
    #[error(
        "“{0}” is no serial port. Type one in /dev (on a bench PC it may be COM1, COM2 …), like “/dev/ttyUSB0 9600 8N1”."
    )]
    BadLine(String),
    /// No speed.
    #[error("“{0}” is no baud rate. Type a number like 9600.")]
    BadSpeed(String),
    /// No form.
    #[error(
        "“{0}” is no character format. Type data bits (5 to 8), parity (N, E, O) and stop bits (1, 2), like 8N1."
    )]
    BadForm(String),
    /// Too much.
    #[error("“{0}” is one word too many.")]
    TooMuch(String),
}

/// Speeds that serial lines run at, between which any number is taken.
const SPEEDS: std::ops::RangeInclusive<u32> = 50..=4_000_000;

impl FromStr for Address {
    type Err = AddressFault;

    fn from_str(text: &str) -> Result<Self, AddressFault> {
        let mut words = text.split_whitespace();
        let first = words.next().ok_or(AddressFault::Empty)?;
        let com = first.get(..3).is_some_and(|start| start.eq_ignore_ascii_case("COM"))
            && first.len() > 3
            && first.chars().skip(3).all(|c| c.is_ascii_digit());
        if first.starts_with('/') || com {
            return serial(first, com, words);
        }
        if let Some(more) = words.next() {
            return Err(AddressFault::TooMuch(more.to_owned()));
        }
        let (host, port) =
            first.rsplit_once(':').ok_or_else(|| AddressFault::NoPort(first.to_owned()))?;
        let port = match port.parse::<u16>() {
            Ok(port) if port > 0 => port,
            _ => return Err(AddressFault::BadPort(port.to_owned())),
        };
        // An IPv6 number stands in brackets (RFC 3986, 3.2.2).
        let bare = host.strip_prefix('[').and_then(|rest| rest.strip_suffix(']'));
        let fits = match bare {
            Some(six) => six.parse::<std::net::Ipv6Addr>().is_ok(),
            None => {
                !host.is_empty()
                    && host.len() <= 253
                    && host
                        .chars()
                        .all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_'))
            }
        };
        if !fits {
            return Err(AddressFault::BadHost(host.to_owned()));
        }
        Ok(Self::Network { host: host.to_owned(), port })
    }
}

fn serial<'a>(
    path: &str,
    com: bool,
    mut words: impl Iterator<Item = &'a str>,
) -> Result<Address, AddressFault> {
    let plain = Path::new(path).components().all(|part| {
        matches!(part, std::path::Component::RootDir | std::path::Component::Normal(_))
    });
    let in_dev = path.starts_with("/dev/") && plain && path.len() > 5;
    if !(com || in_dev) {
        return Err(AddressFault::BadLine(path.to_owned()));
    }
    let speed = words.next().unwrap_or("9600");
    let baud = speed.parse::<u32>().ok().filter(|speed| SPEEDS.contains(speed));
    let baud = baud.ok_or_else(|| AddressFault::BadSpeed(speed.to_owned()))?;
    let form = words.next().unwrap_or("8N1");
    let bad = || AddressFault::BadForm(form.to_owned());
    let letters: Vec<char> = form.to_ascii_uppercase().chars().collect();
    let [data, parity, stop] = letters.as_slice() else { return Err(bad()) };
    let data_bits = data.to_digit(10).filter(|bits| (5..=8).contains(bits)).ok_or_else(bad)?;
    let stop_bits = stop.to_digit(10).filter(|bits| (1..=2).contains(bits)).ok_or_else(bad)?;
    if !matches!(parity, 'N' | 'E' | 'O') {
        return Err(bad());
    }
    if let Some(more) = words.next() {
        return Err(AddressFault::TooMuch(more.to_owned()));
    }
    Ok(Address::Serial {
        path: path.to_owned(),
        baud,
        data_bits: u8::try_from(data_bits).map_err(|_| bad())?,
        parity: *parity,
        stop_bits: u8::try_from(stop_bits).map_err(|_| bad())?,
    })
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Network { host, port } => write!(f, "{host}:{port}"),
            Self::Serial { path, baud, data_bits, parity, stop_bits } => {
                write!(f, "{path} {baud} {data_bits}{parity}{stop_bits}")
            }
        }
    }
}

/// What is read from and written to.
pub trait Line: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Line for T {}

impl Address {
    /// How long so many characters take on it: eleven bits each on a serial line, nothing on the network.
    #[must_use]
    pub fn characters(&self, count: u32) -> std::time::Duration {
        match self {
            Self::Network { .. } => std::time::Duration::ZERO,
            Self::Serial { baud, .. } => std::time::Duration::from_secs(1) * (11 * count) / *baud,
        }
    }

    /// Opens it.
    ///
    /// # Errors
    /// What the machine says: nothing listens there, there is no such line, somebody else has it open.
    pub async fn open(&self) -> std::io::Result<Box<dyn Line>> {
        match self {
            Self::Network { host, port } => {
                let bare = host.trim_start_matches('[').trim_end_matches(']');
                let stream = TcpStream::connect((bare, *port)).await?;
                stream.set_nodelay(true)?;
                Ok(Box::new(stream))
            }
            Self::Serial { path, baud, data_bits, parity, stop_bits } => {
                let device = device(path)?;
                let data = match data_bits {
                    5 => DataBits::Five,
                    6 => DataBits::Six,
                    7 => DataBits::Seven,
                    _ => DataBits::Eight,
                };
                let parity = match parity {
                    'E' => Parity::Even,
                    'O' => Parity::Odd,
                    _ => Parity::None,
                };
                let stop = if *stop_bits == 2 { StopBits::Two } else { StopBits::One };
                let port = tokio_serial::new(device.to_string_lossy(), *baud)
                    .data_bits(data)
                    .parity(parity)
                    .stop_bits(stop)
                    .flow_control(FlowControl::None)
                    .open_native_async()?;
                Ok(Box::new(port))
            }
        }
    }
}

/// The device behind a path: wherever a link of names leads to, it lies in /dev, so that nobody makes the server open a file.
fn device(path: &str) -> std::io::Result<PathBuf> {
    if !path.starts_with('/') {
        return Ok(PathBuf::from(path));
    }
    let real = std::fs::canonicalize(path)?;
    if real.starts_with("/dev") {
        Ok(real)
    } else {
        Err(std::io::Error::other("it leads out of /dev"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("10.20.0.7:4001", "10.20.0.7:4001")]
    #[case("  gauge-3.press-hall:23 ", "gauge-3.press-hall:23")]
    #[case("[fd00::7]:4001", "[fd00::7]:4001")]
    #[case("/dev/ttyUSB0", "/dev/ttyUSB0 9600 8N1")]
    #[case("/dev/ttyS1 19200", "/dev/ttyS1 19200 8N1")]
    #[case("/dev/serial/by-id/bench-3  2400 7e2", "/dev/serial/by-id/bench-3 2400 7E2")]
    #[case("COM4 9600 8n1", "COM4 9600 8N1")]
    fn what_is_written_reads_back(#[case] text: &str, #[case] shown: &str) {
        let address: Address = text.parse().unwrap();
        assert_eq!(address.to_string(), shown);
        assert_eq!(shown.parse::<Address>().unwrap(), address);
    }

    #[rstest]
    #[case("", "Type the address")]
    #[case("gauge", "no port")]
    #[case("gauge:", "“” is no port")]
    #[case("gauge:70000", "“70000” is no port")]
    #[case("gauge:0", "“0” is no port")]
    #[case(":23", "no host name")]
    #[case("ga uge:23", "one word too many")]
    #[case("http://gauge:23", "no host name")]
    #[case("[fd00::zz]:23", "no host name")]
    #[case("/etc/passwd 9600", "no serial port")]
    #[case("/dev/../etc/passwd", "no serial port")]
    #[case("/dev/", "no serial port")]
    #[case("/dev/ttyS0 fast", "“fast” is no baud rate")]
    #[case("/dev/ttyS0 7", "“7” is no baud rate")]
    #[case("/dev/ttyS0 9600 9N1", "“9N1” is no character format")]
    #[case("/dev/ttyS0 9600 8X1", "“8X1” is no character format")]
    #[case("/dev/ttyS0 9600 8N1 xon", "“xon” is one word too many")]
    fn what_is_no_address_is_told(#[case] text: &str, #[case] words: &str) {
        let fault = text.parse::<Address>().unwrap_err().to_string();
        assert!(fault.contains(words), "{text}: {fault}");
    }

    #[tokio::test]
    async fn what_is_no_line_does_not_open() {
        let none: Address = "/dev/no-such-line".parse().unwrap();
        assert!(none.open().await.is_err());
        let null: Address = "/dev/null 9600 8N1".parse().unwrap();
        assert!(null.open().await.is_err(), "a device that is no serial line");
        // A name in /dev that leads elsewhere opens no file.
        let link =
            std::path::PathBuf::from(format!("/dev/shm/vaaka-leads-out-{}", std::process::id()));
        std::os::unix::fs::symlink("/etc/hostname", &link).unwrap();
        let out: Address = format!("{} 9600 8N1", link.display()).parse().unwrap();
        let said = out.open().await.err().map(|cause| cause.to_string());
        std::fs::remove_file(&link).unwrap();
        assert_eq!(said.as_deref(), Some("it leads out of /dev"));
    }

    #[test]
    fn characters_take_their_time_on_slow_lines() {
        let at = |text: &str| text.parse::<Address>().unwrap().characters(3).as_millis();
        assert_eq!(at("/dev/ttyS0 300"), 110);
        assert_eq!(at("/dev/ttyS0 9600"), 3);
        assert_eq!(at("gauge:23"), 0);
    }
}
