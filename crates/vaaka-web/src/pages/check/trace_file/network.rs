//! A network file as the columns that a step wants.

use vaaka_core::trace::{Table, TraceWanted};
use vaaka_formats::{Touchstone, read_touchstone};

/// Columns of a network file: frequency in the unit of the step, then real and imaginary part of each parameter, row by row.
///
/// # Errors
/// What is wrong with it, in a sentence that says what to do.
pub fn network_table(bytes: &[u8], wanted: &TraceWanted) -> Result<Table, String> {
    let scale = match wanted.axis_unit.as_str() {
        "GHz" => 1e9,
        "MHz" => 1e6,
        "kHz" => 1e3,
        "Hz" => 1.0,
        unit => {
            return Err(format!(
                "This is a network file, over the frequency; {} in {unit} is wanted here.",
                wanted.axis
            ));
        }
    };
    let network = read_touchstone(bytes, None).map_err(|error| error.to_string())?;
    if let Some(impedance) = wanted.impedance
        && let Some(other) = network.references.iter().find(|own| **own != impedance)
    {
        return Err(format!(
            "The file is told in a reference impedance of {other} Ω; {impedance} Ω is wanted. Set it on the instrument and export the sweep again."
        ));
    }
    let Touchstone { ports, frequencies, .. } = &network;
    let mut columns = vec![frequencies.iter().map(|f| f / scale).collect::<Vec<f64>>()];
    for (row, column) in (1..=*ports).flat_map(|row| (1..=*ports).map(move |column| (row, column)))
    {
        let own = network.parameter(row, column).unwrap_or_default();
        columns.push(own.iter().map(|one| one.re).collect());
        columns.push(own.iter().map(|one| one.im).collect());
    }
    let lines = (1..=frequencies.len()).collect();
    Ok(Table { heads: vec![], columns, lines })
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::trace::ChannelWanted;

    fn wanted(unit: &str) -> TraceWanted {
        TraceWanted {
            axis: "frequency".into(),
            axis_unit: unit.into(),
            channels: vec![ChannelWanted {
                name: "reflection".into(),
                unit: String::new(),
                complex: true,
            }],
            covers: (1.0, 2.0),
            fewest: 2,
            largest_step: None,
            impedance: Some(50.0),
        }
    }

    #[test]
    fn a_network_becomes_columns_in_the_unit_of_the_step() {
        let text = b"# MHz S MA R 50\n1000 0.5 90\n2000 0.25 -90\n";
        let table = network_table(text, &wanted("GHz")).unwrap();
        assert_eq!(table.columns[0], [1.0, 2.0]);
        assert!((table.columns[2][0] - 0.5).abs() < 1e-12 && table.columns.len() == 3);
        let two = b"# GHz S RI R 50\n1 11 0 21 0 12 0 22 0\n";
        assert_eq!(network_table(two, &wanted("GHz")).unwrap().columns.len(), 9);
    }

    #[test]
    fn what_does_not_fit_says_what_to_do() {
        let text = b"# GHz S RI R 75\n1 0.5 0\n";
        assert!(network_table(text, &wanted("GHz")).unwrap_err().contains("75 Ω; 50 Ω is wanted"));
        assert!(network_table(text, &wanted("nm")).unwrap_err().contains("frequency in nm"));
        let cut = b"# GHz S RI R 50\n1 0.5\n";
        assert!(network_table(cut, &wanted("GHz")).unwrap_err().starts_with("Line 2"));
    }
}
