//! The program as people call it from a shell: computations and charts of tables.

use std::io::Write;
use std::process::{Command, Output, Stdio};

fn vaaka(arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_vaaka"))
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // A command that reads nothing may be gone by now.
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    child.wait_with_output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[test]
fn computations_are_listed_described_and_run() {
    let list = text(&vaaka(&["compute", "--list"], "").stdout);
    let names: Vec<&str> = list.lines().filter_map(|line| line.split_whitespace().next()).collect();
    assert!(names.len() >= 18 && names.contains(&"run-length-cusum"), "{list}");
    for name in &names {
        let said = vaaka(&["compute", name, "--schema"], "");
        let schema: serde_json::Value = serde_json::from_slice(&said.stdout).unwrap();
        assert_eq!(schema["input"]["type"], "object", "{name}");
        let bad = vaaka(&["compute", name], "{");
        assert_eq!(bad.status.code(), Some(2), "{name}");
        let words = text(&bad.stderr);
        assert_eq!(words.lines().count(), 1, "{words}");
        assert!(words.contains("--schema") && bad.stdout.is_empty(), "{words}");
    }
    let found = vaaka(&["compute", "student-t"], r#"{"probability":0.95,"degrees_of_freedom":4}"#);
    assert_eq!(found.status.code(), Some(0));
    let found: serde_json::Value = serde_json::from_slice(&found.stdout).unwrap();
    // JCGM 100, table G.2: 2.78 for four degrees of freedom.
    assert!((found["t"].as_f64().unwrap() - 2.78).abs() < 0.005, "{found}");
    let unknown = vaaka(&["compute", "weather"], "{}");
    assert_eq!(unknown.status.code(), Some(2));
    assert!(text(&unknown.stderr).contains("--list"));
}

/// Scales, weights and air: what the tables and worked examples give, and words where nothing follows.
#[test]
fn weighing_is_computed_from_a_shell() {
    let run = |name: &str, input: serde_json::Value| vaaka(&["compute", name], &input.to_string());
    let found = |name: &str, input: serde_json::Value| -> serde_json::Value {
        let said = run(name, input);
        assert_eq!(said.status.code(), Some(0), "{name}: {}", text(&said.stderr));
        serde_json::from_slice(&said.stdout).unwrap()
    };
    let refused = |name: &str, input: serde_json::Value| -> String {
        let said = run(name, input);
        assert_eq!(said.status.code(), Some(2), "{name}: {}", text(&said.stdout));
        text(&said.stderr)
    };
    use serde_json::json;
    // OIML R 76-1, table 6: class III, 500 e belongs to the first step, and in service the limit is twice as wide.
    let mpe = |load: &str, stage: &str| {
        let of = json!({ "class": "III", "e": "0,005", "stage": stage, "load": load });
        found("weighing-mpe", of)["maximum_permissible_error"].clone()
    };
    assert_eq!([mpe("2.5", "initial"), mpe("2.501", "initial")], ["0.0025", "0.005"]);
    assert_eq!(mpe("2.5", "in_service"), "0.005");
    // OIML R 76-1, A.4.4.3: P = I + e/2 − ΔL, E = P − L, with E0 taken off.
    let error = json!({ "indication": "1000", "reference": "1000", "interval": "1", "added": "0.5",
        "zero": { "indication": "0", "added": "0.7" } });
    let error = found("weighing-error", error);
    assert_eq!(
        [&error["error"], &error["zero_error"], &error["corrected_error"]],
        ["0", "-0.2", "0.2"]
    );
    let weight = found(
        "weights-mpe",
        json!({ "class": "F2", "nominal_g": "200", "conventional_mass_g": "200.0031" }),
    );
    assert_eq!(
        (weight["maximum_permissible_error_mg"].as_f64(), weight["within"].as_bool()),
        (Some(3.0), Some(false))
    );
    let air = found(
        "air-density",
        json!({ "temperature_celsius": 20, "pressure_hpa": 1013.25, "relative_humidity_percent": 50 }),
    );
    // OIML R 111-1, E.3: 1.1993 kg/m³.
    assert!((air["air_density_kg_per_m3"].as_f64().unwrap() - 1.1993).abs() < 3e-4, "{air}");
    let lift = found(
        "buoyancy",
        json!({ "mass_g": 1000, "weight_density_kg_per_m3": 8000, "air_density_kg_per_m3": 1.0 }),
    );
    assert_eq!(lift["seems_heavier_mg"], 0.0);
    let least = found("minimum-weight", json!({ "standard_deviation": 0.02, "interval": 0.1 }));
    assert!(
        (least["minimum_weight"].as_f64().unwrap() - 82.0).abs() < 1e-9
            && least["set_by_display"] == true,
        "{least}"
    );
    let off = found(
        "eccentricity",
        json!({ "middle": 10.001, "places": [10.003, 9.996], "limit": 0.003 }),
    );
    assert_eq!((off["at_place"].as_u64(), off["within"].as_bool()), (Some(2), Some(false)));
    let loads = found(
        "substitution",
        json!({ "reference": 1000, "pairs": [{ "with_reference": 1000, "with_substitute": 1000.4 }] }),
    );
    assert_eq!(loads["test_loads"][1]["value"], 2000.4);
    assert_eq!(found("repeatability", json!({ "readings": [1, 2, 3] }))["standard_deviation"], 1.0);

    assert!(
        refused("weights-mpe", json!({ "class": "E1", "nominal_g": "100000" }))
            .contains("one of class E2")
    );
    assert!(
        refused("weights-mpe", json!({ "class": "Z", "nominal_g": "1" }))
            .contains("give one of E1, E2")
    );
    assert!(refused("air-density", json!({ "temperature_celsius": 293.15, "pressure_hpa": 1013, "relative_humidity_percent": 50 })).contains("check its unit"));
    assert!(
        refused("weighing-error", json!({ "indication": "1", "reference": "1", "added": "0.1" }))
            .contains("give interval")
    );
    assert!(
        refused(
            "weighing-mpe",
            json!({ "class": "III", "e": "0", "stage": "initial", "load": "1" })
        )
        .contains("e is above zero")
    );
    assert!(refused("repeatability", json!({ "readings": [1] })).contains("2 at least"));
}

#[test]
fn a_table_becomes_a_drawing() {
    let folder = tempfile::tempdir().unwrap();
    let (table, svg) = (folder.path().join("scale.csv"), folder.path().join("scale.svg"));
    let mut lines = String::from("\u{feff}value\r\n");
    for n in 0..40 {
        lines.push_str(&format!("{},{}\r\n", n % 3, n % 7));
    }
    std::fs::write(&table, &lines).unwrap();
    let (from, to) = (table.to_str().unwrap(), svg.to_str().unwrap());
    let drawn = vaaka(&["chart", from, "--svg", to, "--lower", "-5", "--upper", "5"], "");
    assert_eq!(drawn.status.code(), Some(0), "{}", text(&drawn.stderr));
    assert!(text(&drawn.stdout).starts_with("40 points, limits "), "{}", text(&drawn.stdout));
    let drawing = std::fs::read_to_string(&svg).unwrap();
    assert!(drawing.starts_with("<svg ") && drawing.contains("tolerance-limit"));
    std::fs::write(&table, "value\n1\n").unwrap();
    let few = vaaka(&["chart", from, "--svg", to], "");
    assert_eq!(few.status.code(), Some(2));
    assert!(text(&few.stderr).contains("at least 20"), "{}", text(&few.stderr));
    let none = vaaka(&["chart", "/nowhere.csv", "--svg", to], "");
    assert_eq!(none.status.code(), Some(1));
}
