//! Settings that the instrument shows: what must be so, and what is written down as it is found.

use serde::{Deserialize, Serialize};

use super::capital;
use crate::method::{ChoiceWord, Input, Step, StepKey};

/// What is wanted of a setting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SettingKind {
    /// It must be this, in one of the ways to write it.
    Exactly,
    /// It is one of several words; which is kept.
    OneOf,
    /// A line of text, kept as it was found.
    Text,
    /// A whole number, kept as it was found.
    Count,
    /// A photograph or document that shows it, kept with the check.
    File,
}

/// A setting that the instrument shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequiredSetting {
    /// What it is called, "the unit on the display".
    pub name: String,
    /// What is wanted of it. None in plans of before there were kinds: it must be just what stands there, letter by letter.
    #[serde(default)]
    pub kind: Option<SettingKind>,
    /// What it must be, or the words of which it is one: words with semicolons between, ways to write one with `=`
    /// between, as in `°C = C; °F = F`.
    pub expected: String,
    /// Whether one that was found wrong is set right by a lead only.
    #[serde(default)]
    pub by_lead: bool,
}

impl RequiredSetting {
    /// Its words, each with the other ways to write it.
    #[must_use]
    pub fn words(&self) -> Vec<ChoiceWord> {
        let ways = |text: &str| {
            let mut ways = text.split('=').map(str::trim).filter(|way| !way.is_empty());
            let word = ways.next()?.to_owned();
            Some(ChoiceWord { word, also: ways.map(str::to_owned).collect() })
        };
        self.expected.split(';').filter_map(ways).collect()
    }

    pub(super) fn fault(&self) -> Option<String> {
        let kind = self.kind?;
        let name = self.name.trim();
        if name.is_empty() {
            return Some("a setting needs a name".into());
        }
        let words = self.words();
        let fewest = match kind {
            SettingKind::Exactly => 1,
            SettingKind::OneOf => 2,
            SettingKind::Text | SettingKind::Count | SettingKind::File => return None,
        };
        if words.len() < fewest {
            return Some(match kind {
                SettingKind::OneOf => {
                    format!("{name}: give the words of which it is one, with semicolons between")
                }
                _ => format!("{name}: say what it must show"),
            });
        }
        if kind == SettingKind::Exactly && words.len() > 1 {
            // A semicolon may stand on a display: then it is no list.
            return None;
        }
        let plain = |text: &str| text.split_whitespace().collect::<String>().to_lowercase();
        let mut known: Vec<String> = Vec::new();
        for way in words.iter().flat_map(|one| std::iter::once(&one.word).chain(&one.also)) {
            if known.contains(&plain(way)) {
                return Some(format!("{name}: “{way}” stands there twice"));
            }
            known.push(plain(way));
        }
        None
    }

    /// What its step asks for.
    #[must_use]
    pub fn input(&self) -> Input {
        let name = self.name.clone();
        let mut words = self.words();
        match self.kind {
            Some(SettingKind::Exactly) if words.len() == 1 => {
                let ChoiceWord { word, also } = words.swap_remove(0);
                Input::Setting { name, expected: word, also, by_lead: self.by_lead }
            }
            None | Some(SettingKind::Exactly) => Input::Setting {
                name,
                expected: self.expected.clone(),
                also: vec![],
                by_lead: self.by_lead,
            },
            Some(SettingKind::OneOf) => Input::Choice { name, words },
            Some(SettingKind::Text) => Input::Text { name },
            Some(SettingKind::Count) => Input::Count { name },
            Some(SettingKind::File) => Input::File { name },
        }
    }
}

/// One step a setting; a corrected one makes void what was measured.
pub fn steps(settings: &[RequiredSetting], measured: &[StepKey]) -> Vec<Step> {
    let mut way = Vec::new();
    for (index, setting) in settings.iter().enumerate() {
        way.push(Step {
            detail: match setting.kind {
                Some(SettingKind::OneOf) => {
                    "Read it on the instrument itself, then choose it.".into()
                }
                Some(SettingKind::File) => {
                    "A photograph, a scan or a print of the instrument; it is kept with the check."
                        .into()
                }
                _ => "Read it on the instrument itself, then type what it shows.".into(),
            },
            voids: measured.to_vec(),
            ..Step::plain(
                &format!("setting-{}", index + 1),
                capital(&setting.name),
                match setting.kind {
                    None | Some(SettingKind::Exactly | SettingKind::OneOf) => {
                        format!("What is {} set to?", setting.name)
                    }
                    Some(SettingKind::File) => {
                        format!("Take a picture or a print: {}", setting.name)
                    }
                    Some(SettingKind::Text | SettingKind::Count) => {
                        format!("What is {}?", setting.name)
                    }
                },
                setting.input(),
            )
        });
    }
    way
}
