//! A JCAMP-DX file as the columns that a step wants.

use vaaka_core::trace::{Table, TraceWanted};
use vaaka_formats::{Spectrum, read_jcamp};

/// Columns of a spectrum: its x in the unit of the step, and its y, where the file says the very quantity that is wanted.
///
/// # Errors
/// What is wrong with it, in a sentence that says what to do.
pub fn spectrum_table(bytes: &[u8], wanted: &TraceWanted) -> Result<Table, String> {
    let Spectrum { x, y, x_unit, y_unit, .. } =
        read_jcamp(bytes).map_err(|error| error.to_string())?;
    let scale = match (x_unit.to_uppercase().as_str(), wanted.axis_unit.as_str()) {
        ("NANOMETERS" | "NM", "nm") | ("MICROMETERS" | "UM", "µm") => 1.0,
        ("NANOMETERS" | "NM", "µm") => 1e-3,
        ("MICROMETERS" | "UM", "nm") => 1e3,
        (other, unit) => {
            return Err(format!(
                "The x of this file is in {}; {} in {unit} is wanted. Export it over the {}.",
                if other.is_empty() { "no unit" } else { &x_unit },
                wanted.axis,
                wanted.axis
            ));
        }
    };
    let channel = wanted.channels.first();
    let name = channel.map_or("", |channel| channel.name.as_str());
    let said = y_unit.to_uppercase();
    let factor = match (said.as_str(), name) {
        ("ABSORBANCE", "absorbance") => 1.0,
        // A share in the file, per cent in the plan.
        ("TRANSMITTANCE", "transmittance") => 100.0,
        _ => {
            return Err(format!(
                "This file holds {}; {name} is wanted. Export the {name}.",
                if y_unit.is_empty() { "no quantity that it names" } else { &y_unit }
            ));
        }
    };
    let lines = (1..=x.len()).collect();
    let columns = vec![
        x.into_iter().map(|value| value * scale).collect(),
        y.into_iter().map(|value| value * factor).collect(),
    ];
    Ok(Table { heads: vec![], columns, lines })
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaaka_core::trace::ChannelWanted;

    fn wanted(name: &str) -> TraceWanted {
        TraceWanted {
            axis: "wavelength".into(),
            axis_unit: "nm".into(),
            channels: vec![ChannelWanted {
                name: name.into(),
                unit: String::new(),
                complex: false,
            }],
            covers: (400.0, 402.0),
            fewest: 2,
            largest_step: None,
            impedance: None,
        }
    }

    fn file(x: &str, y: &str) -> String {
        format!(
            "##TITLE=t\n##XUNITS={x}\n##YUNITS={y}\n##XYPOINTS=(XY..XY)\n400 0.5\n401 0.6\n##END=\n"
        )
    }

    #[test]
    fn a_spectrum_becomes_columns_where_it_says_what_is_wanted() {
        let of =
            |x: &str, y: &str, name: &str| spectrum_table(file(x, y).as_bytes(), &wanted(name));
        let table = of("NANOMETERS", "ABSORBANCE", "absorbance").unwrap();
        assert_eq!(table.columns, [vec![400.0, 401.0], vec![0.5, 0.6]]);
        let table = of("nm", "Transmittance", "transmittance").unwrap();
        assert_eq!(table.columns[1], [50.0, 60.0]);
        let table = of("MICROMETERS", "ABSORBANCE", "absorbance").unwrap();
        assert_eq!(table.columns[0], [400_000.0, 401_000.0]);
        let waves = of("1/CM", "ABSORBANCE", "absorbance").unwrap_err();
        assert!(waves.contains("1/CM; wavelength in nm is wanted"), "{waves}");
        let other = of("NANOMETERS", "TRANSMITTANCE", "absorbance").unwrap_err();
        assert!(other.contains("holds TRANSMITTANCE; absorbance is wanted"), "{other}");
        assert!(of("", "ABSORBANCE", "absorbance").unwrap_err().contains("no unit"));
        assert!(of("NM", "", "absorbance").unwrap_err().contains("names"));
    }
}
