//! The standards of the mill, with what their certificates state.

/// A standard of the mill with its certificate.
#[derive(Debug, Clone, Copy)]
pub struct StandardSet {
    /// Kind.
    pub kind: &'static str,
    /// Tag.
    pub tag: &'static str,
    /// Name.
    pub name: &'static str,
    /// Where it is kept.
    pub location: &'static str,
    /// Unit of all values.
    pub unit: &'static str,
    /// Serial number of the set.
    pub lot: &'static str,
    /// Certificate number.
    pub certificate: &'static str,
    /// Tag, nominal, certified value, expanded uncertainty (k = 2).
    pub pieces: &'static [(&'static str, &'static str, &'static str, &'static str)],
}

/// The standards.
pub const SETS: [StandardSet; 9] = [
    StandardSet {
        kind: "weight_set",
        tag: "E2-A",
        name: "Fine weights, wooden case",
        location: "Colour lab, balance table",
        unit: "g",
        lot: "VR-0417",
        certificate: "V-2207",
        pieces: &[
            ("50", "50", "50.00002", "0.00003"),
            ("100", "100", "99.99996", "0.00005"),
            ("200", "200", "200.00008", "0.00010"),
        ],
    },
    StandardSet {
        kind: "weight_set",
        tag: "F2-A",
        name: "Bench weights, grey case",
        location: "Resin kitchen, shelf 2",
        unit: "g",
        lot: "VR-0533",
        certificate: "V-2219",
        pieces: &[
            ("1k", "1000", "1000.004", "0.005"),
            ("2k", "2000", "1999.991", "0.010"),
            ("5k", "5000", "5000.012", "0.025"),
        ],
    },
    StandardSet {
        kind: "weight_set",
        tag: "M1-A",
        name: "Counting weights, tray by the shelf",
        location: "Finishing, counting bench",
        unit: "g",
        lot: "VR-0588",
        certificate: "V-2226",
        pieces: &[("5k-1", "5000", "5000.06", "0.08"), ("5k-2", "5000", "4999.94", "0.08")],
    },
    StandardSet {
        kind: "weight_set",
        tag: "M1-B",
        name: "Kitchen weights, red case",
        location: "Resin kitchen, red cabinet",
        unit: "kg",
        lot: "VR-0602",
        certificate: "V-2231",
        pieces: &[
            ("5", "5", "5.00007", "0.00008"),
            ("10-1", "10", "10.00011", "0.00015"),
            ("10-2", "10", "10.00010", "0.00015"),
        ],
    },
    StandardSet {
        kind: "weight_set",
        tag: "M1-C",
        name: "Floor weights, trolley",
        location: "Press hall, weight trolley",
        unit: "kg",
        lot: "VR-0611",
        certificate: "V-2240",
        pieces: &[
            ("20-1", "20", "20.0003", "0.0003"),
            ("20-2", "20", "19.9996", "0.0003"),
            ("20-3", "20", "20.0005", "0.0003"),
            ("20-4", "20", "20.0001", "0.0003"),
            ("20-5", "20", "19.9998", "0.0003"),
        ],
    },
    StandardSet {
        kind: "pressure_reference",
        tag: "PR-1",
        name: "Pressure reference, brown case",
        location: "Press hall, tool cabinet",
        unit: "bar",
        lot: "VP-0071",
        certificate: "V-2244",
        pieces: &[
            ("80", "80", "80.02", "0.10"),
            ("200", "200", "199.96", "0.16"),
            ("320", "320", "320.05", "0.22"),
        ],
    },
    StandardSet {
        kind: "temperature_reference",
        tag: "TR-1",
        name: "Dry well with reference probe",
        location: "Resin kitchen, warm corner",
        unit: "°C",
        lot: "VT-0038",
        certificate: "V-2251",
        pieces: &[
            ("60", "60", "60.02", "0.06"),
            ("110", "110", "109.97", "0.08"),
            ("160", "160", "160.05", "0.10"),
        ],
    },
    StandardSet {
        kind: "block_set",
        tag: "GB-1",
        name: "Gauge blocks, flat case",
        location: "Finishing, granite bench",
        unit: "mm",
        lot: "VL-0112",
        certificate: "V-2258",
        pieces: &[
            ("2.5", "2.5", "2.50004", "0.00012"),
            ("10.3", "10.3", "10.29995", "0.00013"),
            ("17.6", "17.6", "17.60007", "0.00014"),
            ("25", "25", "25.00003", "0.00015"),
            ("50", "50", "49.99991", "0.00019"),
            ("75", "75", "75.00012", "0.00023"),
        ],
    },
    StandardSet {
        kind: "wavelength_filter",
        tag: "WF-1",
        name: "Wavelength filter, four bands",
        location: "Colour lab, filter case",
        unit: "nm",
        lot: "VF-0107",
        certificate: "V-2265",
        pieces: &[
            ("352", "352.4", "352.41", "0.08"),
            ("432", "431.8", "431.78", "0.08"),
            ("529", "528.6", "528.63", "0.10"),
            ("619", "619.3", "619.28", "0.10"),
        ],
    },
];
