//! Values from a list that an instrument, its program or a file of its state writes: a name and a value on each line.

/// What a list holds of what is asked for.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listed {
    /// The value of each name that was asked for, in that order; none where the list has none, or tells two.
    pub values: Vec<Option<String>>,
    /// Names of the list with two values that differ, which cannot be told apart.
    pub twice: Vec<String>,
    /// Lines of names that nobody asked for.
    pub others: usize,
    /// Lines without a name and a value.
    pub unread: usize,
}

/// A name without its article, spaces, marks and case.
fn plain(name: &str) -> String {
    let name = name.trim().to_lowercase();
    let name = name.strip_prefix("the ").unwrap_or(&name);
    name.chars().filter(|one| one.is_alphanumeric()).collect()
}

/// Name and value of a line: parted by `=`, by a tab, by a colon or a semicolon, whichever stands first.
fn parted(line: &str) -> Option<(&str, &str)> {
    let (name, value) = line.split_once(['=', '\t', ':', ';'])?;
    let (name, value) = (name.trim(), value.trim().trim_matches('"').trim());
    (!name.is_empty() && !value.is_empty()).then_some((name, value))
}

/// Reads a list for the values of these names. Each may be written with or without its article, in any case.
#[must_use]
pub fn listed(text: &str, names: &[&str]) -> Listed {
    let wanted: Vec<String> = names.iter().map(|name| plain(name)).collect();
    let mut found = Listed { values: vec![None; names.len()], ..Listed::default() };
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let Some((name, value)) = parted(line) else {
            found.unread += 1;
            continue;
        };
        let Some(place) = wanted.iter().position(|one| *one == plain(name)) else {
            found.others += 1;
            continue;
        };
        match &found.values[place] {
            Some(before) if before != value && !found.twice.contains(&names[place].to_owned()) => {
                found.twice.push(names[place].to_owned());
            }
            _ => found.values[place] = Some(value.to_owned()),
        }
    }
    for (place, name) in names.iter().enumerate() {
        if found.twice.iter().any(|twice| twice == name) {
            found.values[place] = None;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    const NAMES: [&str; 3] = ["the start of the sweep", "the power", "Room temperature"];

    fn some(text: &str) -> Option<String> {
        Some(text.to_owned())
    }

    #[test]
    fn a_name_is_found_however_it_is_parted() {
        let text = "Start of the sweep = 2 GHz\r\n\r\nPOWER:\t-10 dBm\nroom-temperature;\"21,4\"\n";
        let found = listed(text, &NAMES);
        assert_eq!(found.values, [some("2 GHz"), some("-10 dBm"), some("21,4")]);
        assert_eq!((found.others, found.unread), (0, 0));
    }

    /// A time stands behind the first mark: what follows is the value, whole.
    #[test]
    fn only_the_first_mark_parts() {
        let found = listed("the power = a=b; c: d", &NAMES);
        assert_eq!(found.values[1], some("a=b; c: d"));
    }

    #[test]
    fn two_values_for_one_name_are_neither() {
        let found = listed("power = -10\npower = -5\npower = -10", &NAMES);
        assert_eq!(found.values[1], None);
        assert_eq!(found.twice, ["the power"]);
        // The same twice is one.
        assert_eq!(listed("power = -10\nPower: -10", &NAMES).values[1], some("-10"));
    }

    #[test]
    fn what_is_of_no_use_is_counted() {
        let found = listed("serial = 7\nhello\n= 3\npower =\n", &NAMES);
        assert_eq!((found.others, found.unread), (1, 3));
        assert!(found.values.iter().all(Option::is_none));
    }

    /// What is written is read back, whatever the order of its lines and the mark between.
    #[test]
    fn a_list_reads_back() {
        let mut rng = ChaCha8Rng::seed_from_u64(16);
        let marks = ["=", " = ", ": ", ";", "\t"];
        let signs: Vec<char> = "abcXYZ019 .,-=:;".chars().collect();
        for round in 0..500 {
            let mut value = || -> String {
                let long = rng.random_range(0..12);
                let inner: String =
                    (0..long).map(|_| signs[rng.random_range(0..signs.len())]).collect();
                format!("1{inner}2")
            };
            let values = [value(), value(), value()];
            let mark = marks[round % marks.len()];
            let mut lines: Vec<String> =
                NAMES.iter().zip(&values).map(|(name, one)| format!("{name}{mark}{one}")).collect();
            lines.rotate_left(round % 3);
            let found = listed(&lines.join("\n"), &NAMES);
            assert_eq!(found.values, values.map(Some), "{lines:?}");
        }
    }

    /// Nothing that can stand in a file makes it fall over, and every line of it is told of.
    #[test]
    fn any_text_is_read() {
        let mut rng = ChaCha8Rng::seed_from_u64(17);
        let signs: Vec<char> = "the power=:;\t\n\"\u{0}é−°🙂-10".chars().collect();
        for _ in 0..2_000 {
            let long = rng.random_range(0..60);
            let text: String = (0..long).map(|_| signs[rng.random_range(0..signs.len())]).collect();
            let found = listed(&text, &NAMES);
            let lines = text.lines().filter(|line| !line.trim().is_empty()).count();
            let told = found.others + found.unread;
            assert!(
                told <= lines && (told < lines || found.values.iter().all(Option::is_none)),
                "{text:?}: {found:?}"
            );
        }
    }
}
