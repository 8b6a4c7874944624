//! The form of a plan: general fields, the method's own sheet, and the points.

use std::collections::BTreeMap;

use rust_decimal::Decimal;
use vaaka_core::judgement::{ContributionSource, Coverage, Decision, DecisionRule};
use vaaka_core::method::{
    ADDITION_SOURCES, AdjustmentPolicy, BudgetAddition, COMPUTED_FROM, LIMIT_FORMS, LIMIT_SIDES,
    Method, Place, Rung, SheetField, SheetKind, SheetTexts, Travel,
};
use vaaka_core::quantity::Unit;
use vaaka_core::round::{DueRule, Trigger};
use vaaka_core::standard::{kind_words, same_nominal};
use vaaka_store::ids::StandardId;
use vaaka_store::plan_drafts::{Draft, DraftPoint};
use vaaka_store::plans::{PlanView, choose_pieces};
use vaaka_store::registers;
use vaaka_store::rows::{Instrument, PlanPointRow};
use vaaka_store::standards::Record;

use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Table, choices, rows_filled};

/// What the form stands on.
pub struct Ground<'a> {
    /// The method.
    pub method: &'static dyn Method,
    /// The instrument.
    pub instrument: &'a Instrument,
    /// The register of standards.
    pub standards: &'a [Record],
}

/// Groups and tables of the form.
pub fn parts(ground: &Ground<'_>, typed: &Fields) -> (Vec<Group>, Vec<Table>) {
    let mut groups = vec![general(ground), occasions()];
    let mut tables = vec![points_table(ground, typed), additions_table(ground, typed)];
    for group in ground.method.sheet().groups {
        let mut fields = Vec::new();
        let mut limits: Vec<&SheetField> = Vec::new();
        for field in &group.fields {
            match &field.kind {
                SheetKind::Rows(columns) => tables.push(rows_table(field, columns, typed)),
                SheetKind::Limit { .. } => limits.push(field),
                _ => fields.extend(plain_fields(field)),
            }
        }
        if !limits.is_empty() {
            tables.insert(1, limits_table(group.title, &limits));
        }
        if !fields.is_empty() {
            groups.push(Group::new(group.title, fields));
        }
    }
    groups.push(after_failure());
    groups.push(for_approval());
    (groups, tables)
}

fn list<T: Copy>(all: &[T], word: fn(T) -> &'static str, words: fn(T) -> &'static str) -> Look {
    choices(all.iter().map(|one| (word(*one), words(*one))))
}

fn general(ground: &Ground<'_>) -> Group {
    let mut kinds: Vec<&str> = ground.standards.iter().map(|r| r.standard.kind.as_str()).collect();
    kinds.sort_unstable();
    kinds.dedup();
    let by_tag = ground.standards.iter().filter(|r| r.standard.state != "retired").map(|r| {
        (format!("tag:{}", r.standard.id), format!("{} {}", r.standard.tag, r.standard.name))
    });
    let any =
        kinds.iter().map(|kind| (format!("kind:{kind}"), format!("any {}", kind_words(kind))));
    let offered =
        std::iter::once((String::new(), "Choose".to_owned())).chain(by_tag).chain(any).collect();
    Group::new(
        "The check",
        vec![
            Field::new("standard", "Standard", Look::Choice(offered))
                .hint("One by its tag, or any of a kind that has the values and is fit."),
            Field::new("due_rule", "Due", list(&DueRule::ALL, DueRule::word, DueRule::words)),
            Field::new("minutes", "Minutes that it takes", Look::Number),
            Field::new("due_uses", "Due after so many uses, too", Look::Number)
                .hint("Empty where uses are not counted."),
            Field::new("due_idle", "Due after so many idle hours, too", Look::Number)
                .hint("Neither used nor checked; empty where it does not matter."),
            Field::new("fixture", "Container or fixture", Look::Line)
                .hint("Empty where none is needed."),
            Field::new(
                "decision_rule",
                "Decision rule",
                list(&DecisionRule::ALL, DecisionRule::word, DecisionRule::words),
            ),
            Field::new("decision_share", "r, where the band is r·U", Look::Number)
                .needs("decision_rule", &[DecisionRule::GuardBandShare.word()])
                .hint("1 is all of U; a smaller share accepts more and proves less."),
            Field::new("decision_risk", "Largest global risk, %", Look::Number)
                .needs("decision_rule", &[DecisionRule::GlobalRisk.word()])
                .hint("Of all checks; 2 is usual."),
            Field::new(
                "coverage",
                "U covers",
                list(&Coverage::ALL, Coverage::word, Coverage::words),
            ),
            Field::new(
                "adjustment_policy",
                "Adjusted",
                list(&AdjustmentPolicy::ALL, AdjustmentPolicy::word, AdjustmentPolicy::words),
            ),
        ],
    )
}

/// What makes the check due beside the calendar.
fn occasions() -> Group {
    let fields = Trigger::PLAIN
        .iter()
        .map(|trigger| {
            Field::new(format!("trigger.{}", trigger.kind()), trigger.words(), Look::Tick)
        })
        .collect();
    Group::new("Due out of turn", fields)
}

fn after_failure() -> Group {
    let fields = Rung::ALL
        .iter()
        .map(|rung| Field::new(format!("reaction.{}", rung.word()), rung.words(), Look::Tick))
        .collect();
    Group::new("When it fails, in this order", fields)
}

fn for_approval() -> Group {
    let note = Field::new("change_note", "What this version changes, and why", Look::Line);
    Group::new("For the lead who approves it", vec![note])
}

fn travel_words(travel: Travel) -> &'static str {
    match travel {
        Travel::Rising => "rising",
        Travel::Falling => "falling",
        Travel::Corner => "off centre",
    }
}

const PLACES: [(Place, &str); 5] = [
    (Place::Middle, "middle"),
    (Place::BackLeft, "back left"),
    (Place::BackRight, "back right"),
    (Place::FrontLeft, "front left"),
    (Place::FrontRight, "front right"),
];

fn points_table(ground: &Ground<'_>, typed: &Fields) -> Table {
    let travels: Vec<(&str, &str)> = std::iter::once(("", ""))
        .chain(ground.method.travels().iter().map(|travel| (travel.word(), travel_words(*travel))))
        .collect();
    let own: Vec<(String, String)> = std::iter::once((String::new(), "the plan's".to_owned()))
        .chain(
            ground
                .standards
                .iter()
                .filter(|r| r.standard.state != "retired")
                .map(|r| (r.standard.id.to_string(), r.standard.tag.clone())),
        )
        .collect();
    let mut table = Table::new("Points, in working order", "points", typed, 3, || {
        let mut columns =
            vec![("nominal", "Value", Look::Number), ("travel", "Way", choices(travels.clone()))];
        if ground.method.has_places() {
            let places = PLACES.iter().map(|(place, words)| (place.word(), *words));
            columns.push(("place", "Place", choices(places)));
        }
        columns.extend([
            ("repeats", "Times", Look::Number),
            ("pieces", "Pieces", Look::Line),
            ("standard", "Standard", Look::Choice(own.clone())),
            ("charted", "Charted", Look::Tick),
        ]);
        columns
    });
    // The plan's own first, then those in the unit of the display.
    let chosen = typed.get("standard");
    let mut near: Vec<_> = ground.standards.iter().collect();
    near.sort_by_key(|r| {
        let unit = r.values.first().map(|row| row.unit.as_str());
        (format!("tag:{}", r.standard.id) != chosen, unit != Some(ground.instrument.unit.as_str()))
    });
    let named: Vec<String> = near
        .into_iter()
        .filter(|r| r.standard.state != "retired" && !r.values.is_empty())
        .filter(|r| {
            r.values[0].unit.parse::<Unit>().is_ok_and(|unit| {
                ground
                    .instrument
                    .unit
                    .parse::<Unit>()
                    .is_ok_and(|own| own.dimension() == unit.dimension())
            })
        })
        .take(6)
        .map(|r| {
            let mut pieces: Vec<&str> = r.values.iter().map(|row| row.piece.as_str()).collect();
            pieces.dedup();
            format!("{}: {}", r.standard.tag, pieces.join(" "))
        })
        .collect();
    table.hint = format!(
        "In {}. Pieces by their tags, with spaces between; by their nominal values where any standard of a kind will do; empty for zero. {}",
        ground.instrument.unit,
        named.join(" · ")
    );
    table
}

/// What the plan adds to the uncertainty budget beside what the method knows.
fn additions_table(ground: &Ground<'_>, typed: &Fields) -> Table {
    let mut table = Table::new("Further parts of the uncertainty", "additions", typed, 1, || {
        let sources = std::iter::once(("", ""))
            .chain(ADDITION_SOURCES.iter().map(|source| (source.word(), source.words())));
        vec![
            ("source", "From", choices(sources)),
            ("label", "What it is", Look::Line),
            ("half_width", "At most ±", Look::Number),
            ("of_reference", "In per cent of the value", Look::Tick),
            ("per_year", "For each year since its certificate", Look::Tick),
        ]
    });
    table.hint = format!(
        "In {}. In the budget already are: the certificate, places of a standard, drift of weights up to U, air buoyancy, zero, corners, the setting of an applied reference, rounding, and from twenty shifts on the variation from check to check. Until then the repeatability of a single reading is stated here, else conformity is not proven. What lies anywhere within ± counts with that over √3.",
        ground.instrument.unit
    );
    table
}

/// Fields of one part of the sheet; a bound is three, the limit and what is added to it.
fn plain_fields(field: &SheetField) -> Vec<Field> {
    let name = format!("s.{}", field.key);
    let look = match &field.kind {
        SheetKind::Decimal { .. } => Look::Number,
        SheetKind::Seconds { .. } | SheetKind::Text => Look::Line,
        SheetKind::Choice(words) => choices(words.iter().copied()),
        SheetKind::Tick => Look::Tick,
        SheetKind::Lines => Look::Lines,
        SheetKind::Bound | SheetKind::Limit { .. } | SheetKind::Rows(_) => return vec![],
    };
    vec![Field::new(name, field.label, look).hint(field.hint)]
}

fn from_words() -> Look {
    // A configuration value is named freely, so this is a line with the known words in its hint.
    Look::Line
}

fn rows_table(field: &SheetField, columns: &[SheetField], typed: &Fields) -> Table {
    let name = format!("s.{}", field.key);
    let mut table = Table::new(field.label, &name, typed, 2, || {
        columns
            .iter()
            .flat_map(|column| match &column.kind {
                SheetKind::Tick => vec![(column.key, column.label, Look::Tick)],
                SheetKind::Choice(words) => {
                    vec![(column.key, column.label, choices(words.iter().copied()))]
                }
                SheetKind::Decimal { .. } => vec![(column.key, column.label, Look::Number)],
                SheetKind::Bound => bound_columns(column),
                _ => vec![(column.key, column.label, Look::Line)],
            })
            .collect()
    });
    let hints: Vec<&str> =
        columns.iter().map(|column| column.hint).filter(|hint| !hint.is_empty()).collect();
    table.hint = hints.join(" ");
    if columns.iter().any(|column| column.kind == SheetKind::Bound) {
        table.hint = format!(
            "A limit may be computed: “+ …” for each “of”: step, span, highest, or a configuration value by its name. {}",
            table.hint
        );
    }
    table
}

/// Keys of the two further columns of a bound.
fn bound_columns(column: &SheetField) -> Vec<(&'static str, &'static str, Look)> {
    match column.key {
        "lower" => vec![
            ("lower", column.label, Look::Number),
            ("lower.per", "+ …", Look::Number),
            ("lower.of", "for each", from_words()),
        ],
        _ => vec![
            ("upper", column.label, Look::Number),
            ("upper.per", "+ …", Look::Number),
            ("upper.of", "for each", from_words()),
        ],
    }
}

/// What the last two columns of a limit are for.
const LIMIT_HINT: &str = "About: what the limit lies about, where that is not nothing; −10 to +30 is ± 20 about 10. By band: other values from certain reference values on, like “100: 0.5; 300: 2 %”.";

fn limits_table(title: &str, limits: &[&SheetField]) -> Table {
    let forms: Vec<(&str, &str)> = std::iter::once(("", "none")).chain(LIMIT_FORMS).collect();
    let rows = limits
        .iter()
        .map(|limit| {
            let field = |key: &str, label: &str, look: Look| {
                Field::new(
                    format!("s.{}.{key}", limit.key),
                    format!("{}: {label}", limit.label),
                    look,
                )
            };
            vec![
                field("form", "form", choices(forms.clone())),
                field("half_width", "± value", Look::Number),
                field("percent", "per cent", Look::Number),
                field("per", "+ so much", Look::Number),
                field("of", "for each", from_words()),
                field("side", "side", choices(LIMIT_SIDES)),
                field("target", "about", Look::Number),
                field("bands", "other values by band", Look::Line),
            ]
        })
        .collect();
    Table {
        title: title.to_owned(),
        name: "s.limits".into(),
        heads: ["Form", "± value", "%", "+ …", "for each", "Side", "About", "By band"]
            .map(str::to_owned)
            .to_vec(),
        rows,
        row_titles: limits.iter().map(|limit| limit.label.to_owned()).collect(),
        hint: limits
            .iter()
            .filter(|limit| !limit.hint.is_empty())
            .map(|limit| format!("{}: {}", limit.label, limit.hint))
            .chain(std::iter::once(LIMIT_HINT.to_owned()))
            .collect::<Vec<_>>()
            .join(" "),
        asked: false,
        error: None,
    }
}

/// Words for what a computed value is computed from, as people type them.
const FROM: [(&str, &str); 3] =
    [("step", "resolution"), ("span", "span"), ("highest", "highest_point")];

/// Reads what was typed into a draft; what is wrong is in the reader.
pub fn read(
    ground: &Ground<'_>,
    reader: &mut Reader<'_>,
    typed: &Fields,
) -> Result<Option<Draft>, WebError> {
    let standard = reader.choice("standard", |word| match word.split_once(':') {
        Some(("tag", id)) => {
            let known = ground.standards.iter().find(|r| r.standard.id.to_string() == id)?;
            Some((Some(known), None))
        }
        Some(("kind", kind)) => ground
            .standards
            .iter()
            .any(|r| r.standard.kind == kind)
            .then(|| (None, Some(kind.to_owned()))),
        _ => None,
    });
    let due_rule = reader.choice("due_rule", |word| word.parse::<DueRule>().ok());
    let decision_rule = reader.choice("decision_rule", |word| word.parse::<DecisionRule>().ok());
    let due_triggers = read_triggers(reader);
    let decision = read_decision(reader, typed, decision_rule);
    let additions = read_additions(reader, typed);
    let policy = reader.choice("adjustment_policy", |word| word.parse::<AdjustmentPolicy>().ok());
    let minutes = reader.whole("minutes", 1, 600);
    if minutes.is_none() {
        reader.fault("minutes", "Say how many minutes it takes; the round is planned by it.");
    }
    let reaction = Rung::ALL
        .iter()
        .filter(|rung| reader.ticked(&format!("reaction.{}", rung.word())))
        .map(|rung| rung.word().to_owned())
        .collect();
    let texts: SheetTexts = typed
        .0
        .iter()
        .filter_map(|(name, text)| {
            let key = name.strip_prefix("s.")?;
            let text = crate::fields::clean(text);
            let from = FROM
                .iter()
                .find(|(word, _)| key.ends_with(".of") && text.eq_ignore_ascii_case(word));
            Some((key.to_owned(), from.map_or(text, |(_, stored)| (*stored).to_owned())))
        })
        .collect();
    let settings = match ground.method.sheet().read(&texts) {
        Ok(settings) => settings,
        Err(faults) => {
            for (name, words) in faults {
                reader.fault(&format!("s.{name}"), words);
            }
            serde_json::Value::Null
        }
    };
    let (named, kind) = standard.unwrap_or((None, None));
    let points = read_points(ground, reader, typed, named)?;
    let fixture = reader.text("fixture", 120);
    let change_note = reader.text("change_note", 200);
    let (Some(due_rule), Some(policy), Some(minutes), true) =
        (due_rule, policy, minutes, reader.is_fine())
    else {
        return Ok(None);
    };
    Ok(Some(Draft {
        standard: named.map(|record| record.standard.id),
        standard_kind: kind,
        settings,
        minutes,
        due_rule: due_rule.word(),
        due_triggers,
        decision,
        additions,
        adjustment_policy: policy.word(),
        reaction,
        fixture,
        change_note,
        points,
    }))
}

/// The decision rule with its numbers; what is left empty is the usual.
fn read_decision(reader: &mut Reader<'_>, typed: &Fields, rule: Option<DecisionRule>) -> Decision {
    let mut decision = Decision::by(rule.unwrap_or_default());
    if let Some(share) = reader.decimal("decision_share") {
        if share <= Decimal::ZERO || share > Decimal::from(3) {
            reader.fault("decision_share", "r is more than 0 and at most 3; 1 is all of U.");
        }
        decision.share = share;
    }
    if let Some(percent) = reader.decimal("decision_risk") {
        if percent <= Decimal::ZERO || percent >= Decimal::from(50) {
            reader.fault("decision_risk", "A risk in per cent, more than 0 and less than 50.");
        }
        decision.most_risk = percent / Decimal::ONE_HUNDRED;
    }
    if !typed.get("coverage").is_empty()
        && let Some(coverage) = reader.choice("coverage", |word| word.parse::<Coverage>().ok())
    {
        decision.coverage = coverage;
    }
    decision
}

fn read_triggers(reader: &mut Reader<'_>) -> Vec<String> {
    let mut found: Vec<Trigger> = Trigger::PLAIN
        .into_iter()
        .filter(|trigger| reader.ticked(&format!("trigger.{}", trigger.kind())))
        .collect();
    let count = |value: i32| u32::try_from(value).unwrap_or(1);
    found.extend(reader.whole("due_uses", 1, 1_000_000).map(|n| Trigger::Uses(count(n))));
    found.extend(reader.whole("due_idle", 1, 10_000).map(|n| Trigger::Idle(count(n))));
    found.iter().map(|trigger| trigger.word()).collect()
}

fn read_additions(reader: &mut Reader<'_>, typed: &Fields) -> Vec<BudgetAddition> {
    let mut found = Vec::new();
    for row in 0..rows_filled(typed, "additions") {
        let name = |key: &str| format!("additions.{row}.{key}");
        if ["source", "label", "half_width"].iter().all(|key| typed.get(&name(key)).is_empty()) {
            continue;
        }
        let source = reader.choice(&name("source"), |word| {
            ADDITION_SOURCES.into_iter().find(|source| source.word() == word)
        });
        let label = reader.required(&name("label"), 80, "Say what it is; it stands in the budget.");
        let half_width = reader.number(&name("half_width"));
        if half_width < Decimal::ZERO {
            reader.fault(&name("half_width"), "It lies within ± so much; that is not negative.");
        }
        found.push(BudgetAddition {
            source: source.unwrap_or(ContributionSource::Other),
            label,
            half_width,
            per_year: reader.ticked(&name("per_year")),
            of_reference: reader.ticked(&name("of_reference")),
        });
    }
    found
}

fn read_points(
    ground: &Ground<'_>,
    reader: &mut Reader<'_>,
    typed: &Fields,
    named: Option<&Record>,
) -> Result<Vec<DraftPoint>, WebError> {
    let unit: Unit = ground.instrument.unit.parse().map_err(|_| WebError::Inner("unit".into()))?;
    let mut points = Vec::new();
    for row in 0..rows_filled(typed, "points") {
        let name = |key: &str| format!("points.{row}.{key}");
        let keys = ["nominal", "travel", "repeats", "pieces"];
        if keys.iter().all(|key| typed.get(&name(key)).is_empty()) {
            continue;
        }
        let nominal = reader.number(&name("nominal"));
        let travel = reader.choice(&name("travel"), |word| {
            ground.method.travels().iter().copied().find(|travel| travel.word() == word)
        });
        let place = if ground.method.has_places() {
            reader.choice(&name("place"), |word| word.parse::<Place>().ok())
        } else {
            Some(Place::Middle)
        };
        let repeats = reader.whole(&name("repeats"), 1, 50);
        if repeats.is_none() {
            reader.fault(&name("repeats"), "How many times is it read? From 1 to 50.");
        }
        let own = match typed.get(&name("standard")) {
            "" => None,
            id => {
                let found = ground.standards.iter().find(|r| r.standard.id.to_string() == id);
                if found.is_none() {
                    reader.fault(&name("standard"), "Choose one of these.");
                }
                found
            }
        };
        let pieces: Vec<String> = typed
            .get(&name("pieces"))
            .split([' ', '+', ';'])
            .filter(|p| !p.is_empty())
            .map(str::to_owned)
            .collect();
        let record = own.or(named);
        if let Some(words) = pieces_fault(record, &pieces, nominal, unit)? {
            reader.fault(&name("pieces"), words);
        }
        points.push(DraftPoint {
            nominal,
            travel: travel.map_or("rising", Travel::word),
            place: place.map_or("middle", Place::word),
            repeats: repeats.unwrap_or(1),
            charted: reader.ticked(&name("charted")),
            pieces,
            standard: own
                .map(|record| record.standard.id)
                .filter(|id| named.is_none_or(|named| named.standard.id != *id)),
        });
    }
    if points.is_empty() {
        reader.fault("points", "A plan needs one point at least.");
    }
    Ok(points)
}

/// Pieces that are not there, or whose sum is another value than the point.
fn pieces_fault(
    record: Option<&Record>,
    names: &[String],
    nominal: Decimal,
    unit: Unit,
) -> Result<Option<String>, WebError> {
    let parts: Vec<(Decimal, Unit)> = match record {
        Some(record) => {
            let pieces = registers::pieces(record.values.clone())?;
            match choose_pieces(names, &pieces, unit) {
                Ok(chosen) => chosen.iter().map(|piece| (piece.nominal, piece.unit)).collect(),
                Err(name) => {
                    let known: Vec<&str> = pieces.iter().map(|piece| piece.tag.as_str()).collect();
                    return Ok(Some(format!(
                        "{} has no piece “{name}” (left). It has {}.",
                        record.standard.tag,
                        known.join(", ")
                    )));
                }
            }
        }
        None => {
            let typed = names.iter().map(|name| name.replace(',', ".").parse::<Decimal>());
            match typed.collect::<Result<Vec<_>, _>>() {
                Ok(values) => values.into_iter().map(|value| (value, unit)).collect(),
                Err(_) => {
                    return Ok(Some("Where any of a kind will do, pieces are given by their nominal values, like “10 10”.".into()));
                }
            }
        }
    };
    if same_nominal(&parts, nominal, unit) {
        return Ok(None);
    }
    let (mut sum, mut digits) = (Decimal::ZERO, true);
    for (value, of) in parts {
        digits &= of.shares_digits_with(unit);
        match of.try_convert(value, unit) {
            Ok(value) => sum += value,
            Err(error) => {
                let tag = record.map_or("", |record| record.standard.tag.as_str());
                return Ok(Some(format!("{tag}: {error}.")));
            }
        }
    }
    // Of a value from another system of units nobody wants all the digits.
    let sum = if digits { sum } else { sum.round_sf(6).unwrap_or(sum) };
    Ok(Some(format!(
        "These pieces make {} {unit}, and the point is {} {unit}.",
        sum.normalize(),
        nominal.normalize()
    )))
}

/// The form filled in from a version that exists.
pub fn filled_in(ground: &Ground<'_>, view: &PlanView, points: &[PlanPointRow]) -> Fields {
    let version = &view.version;
    let standard = match (&version.standard_id, &version.standard_kind) {
        (Some(id), _) => format!("tag:{id}"),
        (None, Some(kind)) => format!("kind:{kind}"),
        (None, None) => String::new(),
    };
    let mut typed = Fields::default()
        .with("standard", standard)
        .with("due_rule", &version.due_rule)
        .with("minutes", version.minutes.to_string())
        .with("fixture", &version.fixture)
        .with("decision_rule", &version.decision_rule)
        .with("decision_share", version.decision_share.normalize().to_string())
        .with(
            "decision_risk",
            (version.decision_risk * Decimal::ONE_HUNDRED).normalize().to_string(),
        )
        .with("coverage", &version.coverage)
        .with("adjustment_policy", &version.adjustment_policy);
    for trigger in version.due_triggers.iter().filter_map(|word| word.parse::<Trigger>().ok()) {
        typed = match trigger {
            Trigger::Uses(count) => typed.with("due_uses", count.to_string()),
            Trigger::Idle(hours) => typed.with("due_idle", hours.to_string()),
            plain => typed.with(&format!("trigger.{}", plain.kind()), "on"),
        };
    }
    for rung in &version.reaction {
        typed = typed.with(&format!("reaction.{rung}"), "on");
    }
    for (name, text) in ground.method.sheet().show(&version.settings) {
        let shown = FROM.iter().find(|(_, stored)| name.ends_with(".of") && text == *stored);
        typed = typed
            .with(&format!("s.{name}"), shown.map_or(text.clone(), |(word, _)| (*word).to_owned()));
    }
    for (row, source) in version.addition_sources.iter().enumerate() {
        let name = |key: &str| format!("additions.{row}.{key}");
        let half_width = version.addition_half_widths.get(row).copied().unwrap_or_default();
        let grows = version.addition_grows.get(row).map_or("fixed", String::as_str);
        let (yearly, of_reference) =
            (matches!(grows, "years" | "years_load"), matches!(grows, "load" | "years_load"));
        typed = typed
            .with(&name("source"), source)
            .with(&name("label"), version.addition_labels.get(row).cloned().unwrap_or_default())
            .with(&name("half_width"), half_width.normalize().to_string())
            .with(&name("of_reference"), if of_reference { "on" } else { "" })
            .with(&name("per_year"), if yearly { "on" } else { "" });
    }
    for (row, point) in points.iter().enumerate() {
        let name = |key: &str| format!("points.{row}.{key}");
        typed = typed
            .with(&name("nominal"), point.nominal.to_string())
            .with(&name("travel"), &point.travel)
            .with(&name("place"), &point.place)
            .with(&name("repeats"), point.repeats.to_string())
            .with(&name("pieces"), point.pieces.join(" "))
            .with(
                &name("standard"),
                point.standard_id.map_or_else(String::new, |id: StandardId| id.to_string()),
            )
            .with(&name("charted"), if point.charted { "on" } else { "" });
    }
    typed
}

/// What a new plan begins with: the usual choices, none of them hidden.
pub fn fresh(method: &'static dyn Method) -> Fields {
    let mut typed = Fields::default()
        .with("due_rule", DueRule::EachShift.word())
        .with("decision_rule", DecisionRule::SimpleAcceptance.word())
        .with("decision_share", "1")
        .with("decision_risk", "2")
        .with("coverage", Coverage::default().word())
        .with("adjustment_policy", AdjustmentPolicy::OnlyWhenOut.word())
        .with("s.pause_seconds", "0 s");
    for rung in Rung::ALL {
        typed = typed.with(&format!("reaction.{}", rung.word()), "on");
    }
    for trigger in [Trigger::Moved, Trigger::Repaired, Trigger::Doubt] {
        typed = typed.with(&format!("trigger.{}", trigger.kind()), "on");
    }
    let first = method.travels().first().map_or("", |travel| travel.word());
    typed = typed.with("points.0.travel", first);
    typed
}

/// Faults by field, empty.
pub fn none() -> BTreeMap<String, String> {
    BTreeMap::new()
}

const _: () = assert!(COMPUTED_FROM.len() == FROM.len());
