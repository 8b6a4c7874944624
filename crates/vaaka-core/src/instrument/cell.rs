//! A cell of an instrument in words: probe × scale × material.

/// What tells a cell from others, short: its probe and material, or its scale where it names neither. None for the one set-up of an
/// instrument that has no cells.
#[must_use]
pub fn cell_words(probe: &str, scale: &str, material: &str) -> Option<String> {
    let named: Vec<&str> = [probe, material].into_iter().filter(|part| !part.is_empty()).collect();
    match (named.is_empty(), scale) {
        (false, _) => Some(named.join(", ")),
        (true, "") => None,
        (true, scale) => Some(scale.to_owned()),
    }
}

/// Names of cells without the parts that all of them begin with ("150 kg cone, tool steel" beside "150 kg cone, stainless" is "tool
/// steel"): what fits on a label. The last part of the shortest stays.
#[must_use]
pub fn told_apart<'a>(names: &[&'a str]) -> Vec<&'a str> {
    const BETWEEN: &str = ", ";
    let mut short = names.to_vec();
    while short.len() > 1 {
        let first: Vec<(&str, &str)> =
            short.iter().filter_map(|name| name.split_once(BETWEEN)).collect();
        let same = first.windows(2).all(|pair| pair[0].0 == pair[1].0);
        if first.len() < short.len() || !same {
            break;
        }
        short = first.into_iter().map(|(_, rest)| rest).collect();
    }
    short
}

/// A label with its cell, where it has one.
#[must_use]
pub fn in_cell(label: &str, cell: Option<&str>) -> String {
    cell.map_or_else(|| label.to_owned(), |cell| format!("{label} ({cell})"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_told_apart_by_what_they_name() {
        assert_eq!(cell_words("cone", "HRC", "steel").as_deref(), Some("cone, steel"));
        assert_eq!(cell_words("cone", "HRC", "").as_deref(), Some("cone"));
        assert_eq!(cell_words("", "HRC", "").as_deref(), Some("HRC"));
        assert_eq!(cell_words("", "", ""), None);
        let names = ["150 kg cone, tool steel", "150 kg cone, stainless plate"];
        assert_eq!(told_apart(&names), ["tool steel", "stainless plate"]);
        assert_eq!(told_apart(&names[..1]), names[..1]);
        let odd = ["cone, steel", "cone, steel, plated", "cone"];
        assert_eq!(told_apart(&odd), odd);
        assert_eq!(told_apart(&odd[..2]), ["steel", "steel, plated"], "as far as all of them go");
        assert!(told_apart(&[]).is_empty());
        assert_eq!(in_cell("Error at 62 HRC", Some("cone")), "Error at 62 HRC (cone)");
        assert_eq!(in_cell("Error at 5 kg", None), "Error at 5 kg");
    }
}
