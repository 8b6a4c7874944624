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
        assert_eq!(in_cell("Error at 62 HRC", Some("cone")), "Error at 62 HRC (cone)");
        assert_eq!(in_cell("Error at 5 kg", None), "Error at 5 kg");
    }
}
