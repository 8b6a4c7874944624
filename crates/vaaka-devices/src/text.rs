//! Bytes of a line as people write and read them.

use thiserror::Error;

/// Why a text to send cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EscapeFault {
    /// A sign after the stroke that means nothing.
    #[error(
        "“\\{0}” means nothing here. \\r, \\n, \\t, \\e, \\\\ and \\x with two digits (\\x05) stand for what no keyboard types."
    )]
    Unknown(char),
    /// Nothing after the stroke.
    #[error("There is a \\ at the end. Write \\\\ for the sign itself.")]
    Open,
    /// No two digits.
    #[error("\\x is followed by two digits from 0 to f, like \\x05.")]
    Digits,
    /// A letter that no plain line carries.
    #[error("“{0}” is no sign of a plain line. Write its bytes, like \\xb0.")]
    Wide(char),
}

/// The bytes of a text with escapes.
///
/// # Errors
/// [`EscapeFault`].
pub fn bytes(text: &str) -> Result<Vec<u8>, EscapeFault> {
    let mut out = Vec::with_capacity(text.len());
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        if letter != '\\' {
            let byte = u8::try_from(letter).ok().filter(u8::is_ascii);
            out.push(byte.ok_or(EscapeFault::Wide(letter))?);
            continue;
        }
        out.push(match letters.next().ok_or(EscapeFault::Open)? {
            'r' => b'\r',
            'n' => b'\n',
            't' => b'\t',
            'e' => 0x1b,
            '\\' => b'\\',
            'x' => {
                let pair: String = letters.by_ref().take(2).collect();
                let two = pair.len() == 2 && pair.chars().all(|c| c.is_ascii_hexdigit());
                let byte = two.then(|| u8::from_str_radix(&pair, 16).ok()).flatten();
                byte.ok_or(EscapeFault::Digits)?
            }
            other => return Err(EscapeFault::Unknown(other)),
        });
    }
    Ok(out)
}

/// What came, to look at: signs that cannot be seen are written as escapes, and no more than `most` of it.
#[must_use]
pub fn shown(bytes: &[u8], most: usize) -> String {
    let mut out = String::new();
    for letter in decoded(bytes).chars().take(most) {
        match letter {
            '\r' => out.push_str("\\r"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\\' => out.push_str("\\\\"),
            control if control.is_control() => {
                out.push_str(&format!("\\x{:02x}", u32::from(control)));
            }
            other => out.push(other),
        }
    }
    if decoded(bytes).chars().count() > most {
        out.push('…');
    }
    out
}

/// As text: UTF-8 where it is, else one letter a byte (ISO 8859-1, in which instruments write µ and °).
#[must_use]
pub fn decoded(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => bytes.iter().map(|byte| char::from(*byte)).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    #[test]
    fn escapes_are_read_and_faults_told() {
        assert_eq!(bytes("Q\\r\\n").unwrap(), b"Q\r\n");
        assert_eq!(bytes("\\x05\\e\\\\\\t").unwrap(), b"\x05\x1b\\\t");
        assert_eq!(bytes("a\\"), Err(EscapeFault::Open));
        assert_eq!(bytes("\\q"), Err(EscapeFault::Unknown('q')));
        assert_eq!(bytes("\\x5"), Err(EscapeFault::Digits));
        assert_eq!(bytes("\\xzz"), Err(EscapeFault::Digits));
        assert_eq!(bytes("20 °C"), Err(EscapeFault::Wide('°')));
    }

    #[test]
    fn what_cannot_be_seen_is_written() {
        assert_eq!(shown(b"+20.016 kg\r\n", 40), "+20.016 kg\\r\\n");
        assert_eq!(shown(b"\x02 3.2 \xb5m\x03", 40), "\\x02 3.2 µm\\x03");
        assert_eq!(shown("3.2 µm".as_bytes(), 40), "3.2 µm");
        assert_eq!(shown(b"abcdef", 3), "abc…");
    }

    /// What is shown of plain bytes, sent again, is what came; and no byte breaks it.
    #[test]
    fn shown_reads_back() {
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        for _ in 0..400 {
            let long = rng.random_range(0..80);
            let plain: Vec<u8> = (0..long).map(|_| rng.random_range(0..0x80)).collect();
            assert_eq!(bytes(&shown(&plain, 1000)).unwrap(), plain);
            let any: Vec<u8> = (0..long).map(|_| rng.random()).collect();
            assert!(shown(&any, 50).chars().all(|letter| !letter.is_control()));
        }
    }
}
