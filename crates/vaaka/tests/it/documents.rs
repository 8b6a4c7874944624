//! Documents for builders name what is there: every file and folder that they speak of exists, and every link leads somewhere.

use std::path::{Path, PathBuf};

fn documents(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            documents(&path, found);
        } else if path.extension().is_some_and(|kind| kind == "md") {
            found.push(path);
        }
    }
}

/// What stands between two marks, one after the other.
fn between<'a>(text: &'a str, from: &'a str, to: &'a str) -> impl Iterator<Item = &'a str> {
    text.split(from).skip(1).filter_map(move |rest| Some(rest.split_once(to)?.0))
}

#[test]
fn every_file_that_a_document_names_is_there() {
    let top = Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap();
    let mut all = vec![top.join("README.md"), top.join("CONTRIBUTING.md")];
    documents(&top.join("docs"), &mut all);
    let (mut named, mut missing) = (0, Vec::new());
    for document in &all {
        let text = std::fs::read_to_string(document).unwrap();
        // Every second piece between grave accents is code.
        let paths = text.split('`').skip(1).step_by(2).filter(|word| {
            let kinds = [".rs", ".js", ".mjs", ".py", ".md", ".sql"];
            word.trim_start_matches('/').contains('/')
                && kinds.iter().any(|kind| word.ends_with(kind))
                && !word.contains([' ', '*', '<', 'N'])
        });
        for path in paths {
            named += 1;
            let places = [
                "",
                "crates/",
                "crates/vaaka-core/",
                "crates/vaaka-web/",
                "crates/vaaka-core/tests/",
                "crates/vaaka-core/src/",
                "crates/vaaka-web/src/",
            ];
            if !places
                .iter()
                .any(|place| top.join(place).join(path.trim_start_matches('/')).exists())
            {
                missing.push(format!("{}: {path}", document.display()));
            }
        }
        let links =
            between(&text, "](", ")").filter(|link| !link.contains(':') && !link.starts_with('#'));
        for link in links {
            named += 1;
            let link = link.split('#').next().unwrap();
            if !document.parent().unwrap().join(link).exists() {
                missing.push(format!("{}: {link}", document.display()));
            }
        }
    }
    assert!(named > 150, "{named}");
    assert!(missing.is_empty(), "{missing:#?}");
}

/// Every decision says where it is made, and hardly one has nothing that holds it.
#[test]
fn decisions_are_held_by_tests() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/decisions");
    let mut all = Vec::new();
    documents(&folder, &mut all);
    let (mut decisions, mut held) = (0, 0);
    for document in &all {
        let text = std::fs::read_to_string(document).unwrap();
        for decision in text.split("\n## ").skip(1) {
            decisions += 1;
            held += usize::from(decision.contains(" Held by `"));
            assert!(decision.contains("\nIn `"), "{}: {decision}", document.display());
        }
    }
    assert!(decisions > 95 && decisions - held <= 3, "{held} of {decisions}");
}
