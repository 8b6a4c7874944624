//! Blocks of data (IEEE 488.2, 8.7.9 and 8.7.10): “#”, one digit that says how many digits follow, the length in those digits,
//! and as many bytes; or “#0” and bytes up to the end of the message.

use thiserror::Error;

/// Largest block, in bytes: more than the largest trace that is taken.
pub const MOST: usize = 4 * 1024 * 1024;

/// How far a block has come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Block {
    /// More is to come.
    More,
    /// Whole: what it holds, as a range of what came.
    Whole(std::ops::Range<usize>),
}

/// Why what came is no block.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum BlockFault {
    /// It begins with something else.
    #[error("it begins with something other than “#” and a length")]
    NoBlock,
    /// Too long.
    #[error("it is longer than the 4 MB that are taken here")]
    TooLong,
}

/// Looks at what came so far. Spaces and ends of lines before it are passed over; an indefinite block ends with a line feed that
/// is the last byte so far, so that a caller waits a moment for more before it takes it.
///
/// # Errors
/// [`BlockFault`].
pub fn block(came: &[u8]) -> Result<Block, BlockFault> {
    let Some(start) = came.iter().position(|byte| !byte.is_ascii_whitespace()) else {
        return Ok(Block::More);
    };
    let body = &came[start..];
    if body.first() != Some(&b'#') {
        return Err(BlockFault::NoBlock);
    }
    let Some(digits) = body.get(1) else { return Ok(Block::More) };
    if !digits.is_ascii_digit() {
        return Err(BlockFault::NoBlock);
    }
    let digits = usize::from(digits - b'0');
    if digits == 0 {
        return match body.last() {
            _ if body.len() > MOST => Err(BlockFault::TooLong),
            Some(b'\n') if body.len() > 2 => Ok(Block::Whole(start + 2..came.len() - 1)),
            _ => Ok(Block::More),
        };
    }
    let head = body.get(2..).unwrap_or_default();
    let head = &head[..head.len().min(digits)];
    if !head.iter().all(u8::is_ascii_digit) {
        return Err(BlockFault::NoBlock);
    }
    if head.len() < digits {
        return Ok(Block::More);
    }
    let length = head.iter().fold(0_usize, |sum, digit| sum * 10 + usize::from(digit - b'0'));
    if length > MOST {
        return Err(BlockFault::TooLong);
    }
    let begin = start + 2 + digits;
    Ok(if came.len() >= begin + length { Block::Whole(begin..begin + length) } else { Block::More })
}

/// A block of a length that is known.
#[must_use]
pub fn of(bytes: &[u8]) -> Vec<u8> {
    let length = bytes.len().to_string();
    let mut out = format!("#{}{length}", length.len()).into_bytes();
    out.extend_from_slice(bytes);
    out.push(b'\n');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_of_both_kinds() {
        // IEEE 488.2, 8.7.9: #15ABCDE and #205ABCDE hold the same five bytes.
        for text in ["#15ABCDE", "#205ABCDE", " \n#15ABCDE\n"] {
            let Ok(Block::Whole(range)) = block(text.as_bytes()) else { panic!("{text}") };
            assert_eq!(&text[range], "ABCDE");
        }
        assert_eq!(block(b"#0ABC\n"), Ok(Block::Whole(2..5)));
        assert_eq!(block(b"#0ABC"), Ok(Block::More));
        assert_eq!(block(b"#10"), Ok(Block::Whole(3..3)));
    }

    #[test]
    fn a_block_cut_at_any_byte_is_not_whole() {
        let whole = of(b"1.0,2.0\n1.1,2.1\n");
        for cut in 0..whole.len() - 1 {
            assert_eq!(block(&whole[..cut]), Ok(Block::More), "{cut}");
        }
        assert!(matches!(block(&whole), Ok(Block::Whole(_))));
    }

    #[test]
    fn what_is_no_block_is_told() {
        for text in ["ERROR", "#A", "#3 12", "#2x5"] {
            assert_eq!(block(text.as_bytes()), Err(BlockFault::NoBlock), "{text}");
        }
        assert_eq!(block(b"#9999999999"), Err(BlockFault::TooLong));
    }
}
