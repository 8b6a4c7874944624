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
