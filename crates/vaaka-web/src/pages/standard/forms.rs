//! Forms of the register of standards: the standard itself, its lots, its certificates.

use std::collections::BTreeMap;

use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use rust_decimal::Decimal;
use vaaka_core::quantity::{TypedDecimal, Unit};
use vaaka_core::standard::{AXES, CELSIUS, UseKind, changes_between, far_words, is_far};
use vaaka_store::ids::{CertificateId, LotId, StandardId};
use vaaka_store::rows::{Certificate, CertifiedValue, Lot};
use vaaka_store::standard_changes::{self, Asked, NewLot, StandardFields};
use vaaka_store::standards::{self, Record};
use vaaka_store::{Day, StoreError, registers};

use crate::desk::{Desk, Sent};
use crate::error::WebError;
use crate::fields::{Field, Fields, Group, Look, Reader, Table, choices, rows_filled};
use crate::forms::PathTag;
use crate::pages::form::{Form, whole};
use crate::paths::encode;
use crate::session::SignedIn;
use crate::state::AppState;

type Faults = BTreeMap<String, String>;

fn path(tag: &str) -> String {
    format!("/standards/{}", encode(tag))
}

/// A kind as it is stored: small letters, underlines.
fn stored_kind(words: &str) -> String {
    words.to_lowercase().split_whitespace().collect::<Vec<_>>().join("_")
}

fn standard_form(tag: Option<&str>) -> Form {
    let (heading, action, back) = match tag {
        Some(tag) => {
            (format!("Change what is said of {tag}"), format!("{}/edit", path(tag)), path(tag))
        }
        None => ("Register a standard".to_owned(), "/new/standard".into(), "/standards".into()),
    };
    let mut fields = vec![
        Field::new("name", "Name", Look::Line)
            .hint("As people call it, like “kitchen weights, red case”."),
        Field::new("kind", "Kind", Look::Line).hint(
            "Weight set, gauge block set, pressure reference … Plans may take any of a kind.",
        ),
        Field::new("location", "Where it is kept", Look::Line),
    ];
    if tag.is_none() {
        fields.insert(
            0,
            Field::new("tag", "Tag", Look::Line).hint("As on its label; it stays for good."),
        );
    }
    Form {
        groups: vec![Group::new("", fields)],
        ..Form::new(
            "standards",
            heading,
            action,
            back,
            if tag.is_some() { "Save" } else { "Register it" },
        )
    }
}

/// The form for a new standard.
pub async fn new(signed: SignedIn, State(state): State<AppState>) -> Result<Response, WebError> {
    let desk = Desk::open(&state).await?;
    standard_form(None).draw(&signed, &desk.here, &Fields::default(), &Faults::new())
}

/// Registers a standard; its first lot follows.
pub async fn create(Sent { signed, mut desk, typed }: Sent) -> Result<Response, WebError> {
    let mut reader = Reader::of(&typed);
    let tag = reader.tag("tag");
    let fields = read_standard(&mut reader);
    if !reader.is_fine() {
        return standard_form(None).draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let by = desk.by(&signed);
    let [name, kind, location] = &fields;
    let new = StandardFields { tag: &tag, name, kind, location };
    match standard_changes::register(&mut desk.connection, new, by).await {
        Ok(_) => Ok(Redirect::to(&format!("{}/lot", path(&tag))).into_response()),
        Err(StoreError::Conflict { .. }) => {
            reader.fault(
                "tag",
                format!("{tag} is in the register already. Give this one another tag."),
            );
            standard_form(None).draw(&signed, &desk.here, &typed, &reader.faults)
        }
        Err(other) => Err(other.into()),
    }
}

/// Reads name, kind and place of a standard, from a form or from a line of a table.
pub(in crate::pages) fn read_standard(reader: &mut Reader<'_>) -> [String; 3] {
    let name = reader.required("name", 120, "Give it a name.");
    let kind = reader.required(
        "kind",
        60,
        "Say what kind it is; what can stand in for it is found by that.",
    );
    [name, stored_kind(&kind), reader.text("location", 120)]
}

/// The form that changes a standard.
pub async fn edit(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let standard = &record.standard;
    let typed = Fields::default()
        .with("name", &standard.name)
        .with("kind", vaaka_core::standard::kind_words(&standard.kind))
        .with("location", &standard.location);
    let mut form = standard_form(Some(&tag));
    form.hidden = vec![("version".into(), standard.version.to_string())];
    form.draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Changes a standard.
pub async fn save(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let mut seen = standards::by_tag(&mut desk.connection, &tag, desk.today).await?.standard;
    let mut reader = Reader::of(&typed);
    let [name, kind, location] = &read_standard(&mut reader);
    let mut form = standard_form(Some(&tag));
    form.hidden = vec![("version".into(), seen.version.to_string())];
    if !reader.is_fine() {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    seen.version = typed.get("version").parse().unwrap_or(0);
    let by = desk.by(&signed);
    let fields = StandardFields { tag: &tag, name, kind, location };
    match standard_changes::edit(&mut desk.connection, &seen, fields, by).await {
        Ok(()) => Ok(Redirect::to(&path(&tag)).into_response()),
        Err(StoreError::Conflict { .. }) => form.draw(
            &signed,
            &desk.here,
            &typed,
            &whole("Somebody changed this standard a moment ago. What you typed is here: look at it again, then save."),
        ),
        Err(other) => Err(other.into()),
    }
}

fn certificate_group() -> Group {
    Group::new(
        "Certificate",
        vec![
            Field::new("number", "Number", Look::Line),
            Field::new(
                "paper",
                "Kind",
                choices([
                    ("calibration", "calibration: values with uncertainty"),
                    ("conformance", "conformance: it once passed at its maker's"),
                ]),
            )
            .hint("One of conformance serves only after a lead has accepted it in writing."),
            Field::new("issuer", "Issued by", Look::Line),
            Field::new("issued_on", "Issued on", Look::Day),
            Field::new("valid_from", "Valid from", Look::Day),
            Field::new("valid_until", "Valid until", Look::Day).hint("The last valid day."),
        ],
    )
}

fn value_columns() -> Vec<(&'static str, &'static str, Look)> {
    vec![
        ("piece", "Piece", Look::Line),
        ("nominal", "Nominal", Look::Number),
        ("value", "Certified value", Look::Number),
        ("uncertainty", "U", Look::Number),
        ("k", "k", Look::Number),
        ("class_limit", "U is the limit of its class", Look::Tick),
        ("non_uniformity", "Not uniform ±", Look::Number),
        ("temperature", "At", Look::Number),
    ]
}

/// The rows whose value lies so far from nominal that it is asked about, with the words.
fn far_rows(typed: &Fields) -> Vec<(usize, String)> {
    let number = |row: usize, key: &str| {
        TypedDecimal::parse(typed.get(&format!("values.{row}.{key}"))).ok().map(|read| read.value)
    };
    (0..rows_filled(typed, "values"))
        .filter_map(|row| {
            let (nominal, value) = (number(row, "nominal")?, number(row, "value")?);
            let expanded = number(row, "uncertainty").unwrap_or_default();
            is_far(nominal, value, expanded).then(|| (row, far_words(nominal, value, expanded)))
        })
        .collect()
}

/// What is far from nominal is asked about once, at its field; the answer holds for the value that was asked about.
fn ask_far(reader: &mut Reader<'_>, typed: &Fields) {
    for (row, words) in far_rows(typed) {
        let name = |key: &str| format!("values.{row}.{key}");
        let answered =
            reader.ticked(&name("sure")) && typed.get(&name("asked")) == typed.get(&name("value"));
        if !answered {
            let words = format!(
                "{words}. Look at the paper again; if it says so, tick “so stated” in this row."
            );
            reader.fault(&name("value"), words);
        }
    }
}

/// For which values the question is asked, as the form carries it.
fn asked_about(typed: &Fields) -> Vec<(String, String)> {
    let value = |row: usize| typed.get(&format!("values.{row}.value")).to_owned();
    far_rows(typed).iter().map(|(row, _)| (format!("values.{row}.asked"), value(*row))).collect()
}

fn value_table(typed: &Fields) -> Table {
    let far = !far_rows(typed).is_empty();
    let columns = || {
        let mut columns = value_columns();
        columns.extend(far.then_some(("sure", "So stated", Look::Tick)));
        columns
    };
    let mut table = Table::new("Certified values, in full", "values", typed, 4, columns);
    table.hint = "One row a piece; several rows of one piece for a value that depends on something, each saying at which temperature (or wavelength, or frequency) it holds. Only the pieces with a certified value serve. Where nothing but the class of a piece is known, give the limit of that class as U and tick the box: its standard uncertainty is then that limit over √3.".into();
    table
}

/// What the values of a piece that has several depend on.
fn axis_field() -> Field {
    Field::new("at_unit", "What “At” is", choices(AXES))
        .hint("Only where a value depends on it: a solution on its temperature, a filter on the wavelength.")
}

fn unit_field() -> Field {
    let units: Vec<(&str, &str)> =
        Unit::ALL.iter().map(|unit| (unit.symbol(), unit.symbol())).collect();
    Field::new("unit", "Unit of all values", choices(units))
}

/// Reads a certificate.
pub(in crate::pages) fn read_certificate(reader: &mut Reader<'_>) -> Certificate {
    let number = reader.required("number", 60, "Give the number of the certificate.");
    let kind = reader
        .choice("paper", |word| {
            ["calibration", "conformance"].into_iter().find(|known| *known == word)
        })
        .unwrap_or("calibration");
    let issuer = reader.required("issuer", 120, "Say who issued it.");
    let issued_on = reader.required_day("issued_on");
    let valid_from = reader.required_day("valid_from");
    let valid_until = reader.required_day("valid_until");
    if valid_until < valid_from {
        reader.fault("valid_until", "It ends before it begins. Look at the two days again.");
    }
    Certificate {
        id: CertificateId(0),
        lot_id: LotId(0),
        number,
        version: 1,
        kind: kind.to_owned(),
        issuer,
        issued_on: Day(issued_on),
        valid_from: Day(valid_from),
        valid_until: Day(valid_until),
        change: "first".into(),
        replaces_id: None,
    }
}

/// Reads certified values, a row a piece.
pub(in crate::pages) fn read_values(
    reader: &mut Reader<'_>,
    typed: &Fields,
) -> Vec<CertifiedValue> {
    let unit = reader.choice("unit", |word| word.parse::<Unit>().ok());
    let axis = match reader.typed("at_unit").to_owned() {
        axis if axis.is_empty() || axis == CELSIUS => None,
        axis => {
            if !AXES.iter().any(|(unit, _)| *unit == axis) {
                let known: Vec<&str> = AXES.iter().map(|(unit, _)| *unit).collect();
                reader.fault("at_unit", format!("Choose one of these: {}.", known.join(", ")));
            }
            Some(axis)
        }
    };
    let mut found: Vec<CertifiedValue> = Vec::new();
    for row in 0..rows_filled(typed, "values") {
        let name = |key: &str| format!("values.{row}.{key}");
        let keys =
            ["piece", "nominal", "value", "uncertainty", "k", "non_uniformity", "temperature"];
        if keys.iter().all(|key| typed.get(&name(key)).is_empty()) {
            continue;
        }
        let piece =
            reader.required(&name("piece"), 40, "Name the piece, as it is engraved or marked.");
        let uncertainty = reader.number(&name("uncertainty"));
        let k = reader.decimal(&name("k")).unwrap_or(Decimal::TWO);
        if uncertainty < Decimal::ZERO {
            reader.fault(&name("uncertainty"), "An uncertainty is not negative.");
        }
        if k <= Decimal::ZERO {
            reader.fault(
                &name("k"),
                "The coverage factor is greater than zero; most certificates state 2.",
            );
        }
        let non_uniformity = reader.decimal(&name("non_uniformity"));
        if non_uniformity.is_some_and(|value| value < Decimal::ZERO) {
            reader.fault(
                &name("non_uniformity"),
                "Give it as ± half of the spread; it is not negative.",
            );
        }
        let temperature = reader.decimal(&name("temperature"));
        let same =
            |known: &&CertifiedValue| known.piece == piece && known.temperature == temperature;
        if found.iter().any(|known| same(&known)) {
            reader.fault(&name("piece"), "This piece has a value already. Several values of one piece hold at different temperatures, or at different values of what they depend on.");
        }
        if found.iter().any(|known| {
            known.piece == piece && known.temperature.is_some() != temperature.is_some()
        }) {
            reader.fault(
                &name("temperature"),
                "Say for every value of this piece where it holds, or for none.",
            );
        }
        found.push(CertifiedValue {
            certificate_id: CertificateId(0),
            piece,
            nominal: reader.number(&name("nominal")),
            certified_value: reader.number(&name("value")),
            expanded_uncertainty: uncertainty,
            coverage_factor: k,
            unit: unit.map_or_else(String::new, |unit| unit.symbol().to_owned()),
            temperature,
            at_unit: axis.clone().filter(|_| temperature.is_some()),
            non_uniformity,
            class_limit: reader.ticked(&name("class_limit")),
        });
    }
    if found.is_empty() {
        reader.fault(
            "values",
            "A standard without a certified value proves nothing: give one row at least.",
        );
    }
    found
}

fn lot_form(tag: &str, typed: &Fields) -> Form {
    let kinds = std::iter::once(("", "nothing is counted"))
        .chain(UseKind::ALL.iter().map(|kind| (kind.word(), kind.words())));
    Form {
        intro: "A lot is the piece, set or batch that stands behind the tag at a time. The first one is in use at once; a later one waits until a lead puts it in use, so that both can be read in turn before.".into(),
        groups: vec![
            Group::new(
                "Lot or piece",
                vec![
                    Field::new("lot", "Number", Look::Line).hint("Serial number of a set, batch of a material."),
                    Field::new("expires_on", "Expires on", Look::Day).hint("Empty where it does not."),
                    Field::new("open_hours", "May be open, hours", Look::Number)
                        .hint("From its first opening; empty where it may stay open."),
                    Field::new("use_kind", "What use wears off", choices(kinds)),
                    Field::new("use_limit", "How many it bears", Look::Number),
                    Field::new("face_width", "Face of the block: width, mm", Look::Number)
                        .hint("The four sizes draw the map of the places; empty where there is none."),
                    Field::new("face_height", "Height, mm", Look::Number),
                    Field::new("face_spacing", "Between two places, mm", Look::Number),
                    Field::new("face_edge", "From the edge, mm", Look::Number),
                ],
            ),
            certificate_group(),
            Group::new("", vec![unit_field(), axis_field()]),
        ],
        tables: vec![value_table(typed)],
        hidden: asked_about(typed),
        ..Form::new("standards", format!("A lot of {tag}"), format!("{}/lot", path(tag)), path(tag), "Register it")
    }
}

/// The form for a new lot.
pub async fn new_lot(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let typed = Fields::default().with("paper", "calibration");
    lot_form(&tag, &typed).draw(&signed, &desk.here, &typed, &Faults::new())
}

/// Registers a lot.
pub async fn create_lot(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let form = lot_form(&tag, &typed);
    if !typed.get("more").is_empty() {
        return form.draw(&signed, &desk.here, &typed, &Faults::new());
    }
    let mut reader = Reader::of(&typed);
    let lot = read_lot(&mut reader, record.standard.id);
    let certificate = read_certificate(&mut reader);
    let values = read_values(&mut reader, &typed);
    ask_far(&mut reader, &typed);
    if !reader.is_fine() {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let by = desk.by(&signed);
    let new = NewLot { lot, certificate, values };
    match standard_changes::add_lot(&mut desk.connection, record.standard.id, new, by).await {
        Ok((_, id)) => Ok(Redirect::to(&format!("/certificates/{id}")).into_response()),
        Err(StoreError::Conflict { constraint }) => {
            if constraint.starts_with("certificates") {
                reader.fault("number", "A certificate of this number is in the register already.");
            } else {
                reader.fault("lot", "This standard has a lot of this number already.");
            }
            form.draw(&signed, &desk.here, &typed, &reader.faults)
        }
        Err(other) => Err(other.into()),
    }
}

/// Reads a lot.
pub(in crate::pages) fn read_lot(reader: &mut Reader<'_>, standard: StandardId) -> Lot {
    let lot = reader.required("lot", 60, "Give the number of the lot or piece.");
    let use_kind = reader
        .choice("use_kind", |word| match word {
            "" => Some(None),
            word => word.parse::<UseKind>().ok().map(Some),
        })
        .flatten();
    let use_limit = reader.whole("use_limit", 1, 1_000_000);
    match (use_kind, use_limit) {
        (Some(_), None) => reader.fault("use_limit", "Say how many it bears."),
        (None, Some(_)) => reader.fault("use_kind", "Say what is counted."),
        _ => {}
    }
    let face: Vec<Option<Decimal>> = ["face_width", "face_height", "face_spacing", "face_edge"]
        .iter()
        .map(|name| {
            let value = reader.decimal(name);
            if value.is_some_and(|value| value <= Decimal::ZERO || value > Decimal::from(1_000)) {
                reader.fault(name, "Give a size in millimetres, more than 0 and at most 1000.");
            }
            value
        })
        .collect();
    let given = face.iter().filter(|size| size.is_some()).count();
    if given != 0 && given != 4 {
        reader.fault("face_width", "Give all four sizes of the face, or none.");
    }
    Lot {
        id: LotId(0),
        standard_id: standard,
        lot,
        in_use_from: None,
        in_use_until: None,
        expires_on: reader.day("expires_on").map(Day),
        opened_at: None,
        open_hours: reader.whole("open_hours", 1, 100_000),
        use_kind: use_kind.map(|kind| kind.word().to_owned()),
        use_limit,
        face_width: face[0],
        face_height: face[1],
        face_spacing: face[2],
        face_edge: face[3],
    }
}

fn certificate_form(tag: &str, typed: &Fields, replaces: bool) -> Form {
    let mut group = certificate_group();
    let why = replaces.then(|| {
        Field::new(
            "change",
            "Why there is a new one",
            choices([
                ("", "Choose"),
                ("recertified", "the same piece was certified anew: valid from its date, the past stays"),
                ("clerical", "a slip of the pen is put right: past checks are evaluated again beside the old verdicts"),
            ]),
        )
    });
    group.fields.splice(0..0, why);
    Form {
        intro: "The values of the certificate that holds now are filled in; change what is different. It serves when another lead has compared it with the paper.".into(),
        groups: vec![group, Group::new("", vec![unit_field(), axis_field()])],
        tables: vec![value_table(typed)],
        hidden: asked_about(typed),
        ..Form::new(
            "standards",
            format!("A new certificate of {tag}"),
            format!("{}/certificate", path(tag)),
            path(tag),
            "Add it",
        )
    }
}

fn filled_in(record: &Record) -> Fields {
    let mut typed = Fields::default();
    if let Some(paper) = &record.certificate {
        typed = typed
            .with("number", &paper.number)
            .with("paper", &paper.kind)
            .with("issuer", &paper.issuer)
            .with("issued_on", paper.issued_on.0.to_string())
            .with("valid_from", paper.valid_from.0.to_string())
            .with("valid_until", paper.valid_until.0.to_string());
    }
    for (row, value) in record.values.iter().enumerate() {
        let name = |key: &str| format!("values.{row}.{key}");
        let or_empty = |value: Option<Decimal>| value.map_or_else(String::new, |v| v.to_string());
        typed = typed
            .with("unit", &value.unit)
            .with("at_unit", value.at_unit.as_deref().unwrap_or(CELSIUS))
            .with(&name("piece"), &value.piece)
            .with(&name("nominal"), value.nominal.to_string())
            .with(&name("value"), value.certified_value.to_string())
            .with(&name("uncertainty"), value.expanded_uncertainty.to_string())
            .with(&name("k"), value.coverage_factor.to_string())
            .with(&name("class_limit"), if value.class_limit { "on" } else { "" })
            .with(&name("non_uniformity"), or_empty(value.non_uniformity))
            .with(&name("temperature"), or_empty(value.temperature));
    }
    typed
}

/// The form for a new certificate of the lot in use.
pub async fn new_certificate(
    signed: SignedIn,
    State(state): State<AppState>,
    PathTag(tag): PathTag,
) -> Result<Response, WebError> {
    let mut desk = Desk::open(&state).await?;
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let typed = filled_in(&record);
    certificate_form(&tag, &typed, record.certificate.is_some()).draw(
        &signed,
        &desk.here,
        &typed,
        &Faults::new(),
    )
}

/// Adds a certificate to the lot in use.
pub async fn create_certificate(
    PathTag(tag): PathTag,
    Sent { signed, mut desk, typed }: Sent,
) -> Result<Response, WebError> {
    let record = standards::by_tag(&mut desk.connection, &tag, desk.today).await?;
    let form = certificate_form(&tag, &typed, record.certificate.is_some());
    if !typed.get("more").is_empty() {
        return form.draw(&signed, &desk.here, &typed, &Faults::new());
    }
    let mut reader = Reader::of(&typed);
    let Some(lot) = &record.lot else {
        reader.fault("*", "This standard has no lot in use. Register a lot first.");
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    };
    // None where the first certificate of the lot was rejected.
    let old = record.certificate.as_ref();
    let change = old.and_then(|_| {
        reader.choice("change", |word| {
            ["recertified", "clerical"].into_iter().find(|known| *known == word)
        })
    });
    let mut certificate = read_certificate(&mut reader);
    let values = read_values(&mut reader, &typed);
    ask_far(&mut reader, &typed);
    if let Some(old) = old {
        if change == Some("clerical") {
            // A slip of the pen does not move the time for which the certificate holds.
            certificate.version = old.version + 1;
            if certificate.valid_from != old.valid_from {
                let words = format!(
                    "A slip of the pen holds from the same day on, {}. Certified anew is the other choice.",
                    old.valid_from.0
                );
                reader.fault("valid_from", words);
            }
        } else if reader.is_fine() && certificate.valid_from <= old.valid_from {
            reader.fault("valid_from", "A new certification begins after the one before it.");
        }
    }
    if !reader.is_fine() {
        return form.draw(&signed, &desk.here, &typed, &reader.faults);
    }
    let mut asked = None;
    if let Some(old) = old {
        certificate.change = change.unwrap_or("recertified").to_owned();
        certificate.replaces_id = Some(old.id);
        asked = look_back(&record, old, &certificate, &values, &desk)?;
    }
    let by = desk.by(&signed);
    let (standard, lot) = (record.standard.id, lot.id);
    let added = standard_changes::add_certificate(
        &mut desk.connection,
        standard,
        lot,
        certificate,
        values,
        asked,
        by,
    );
    match added.await {
        Ok(id) => Ok(Redirect::to(&format!("/certificates/{id}")).into_response()),
        Err(StoreError::Conflict { constraint }) if constraint == "certificate_reviews_one" => {
            let words = "Another certificate of this lot waits for its second lead. Decide that one first; the page of the standard leads to it.";
            form.draw(&signed, &desk.here, &typed, &whole(words))
        }
        Err(StoreError::Conflict { .. }) => {
            reader.fault("number", "A certificate of this number is in the register already. Certified anew has a number of its own.");
            form.draw(&signed, &desk.here, &typed, &reader.faults)
        }
        Err(other) => Err(other.into()),
    }
}

/// Values that moved by more than both certificates explain ask for a look-back over what used
/// them since the old certificate began.
fn look_back(
    record: &Record,
    old: &Certificate,
    new: &Certificate,
    values: &[CertifiedValue],
    desk: &Desk,
) -> Result<Option<Asked>, WebError> {
    if new.change != "recertified" {
        return Ok(None);
    }
    let before = registers::pieces(record.values.clone())?;
    let after = registers::pieces(values.to_vec())?;
    let changes = changes_between(&before, &after).map_err(|error| WebError::NotNow {
        words: format!("{error}. Give the values in a unit of the same quantity."),
    })?;
    let moved: Vec<String> = changes
        .iter()
        .filter(|change| change.looks_back)
        .map(|change| {
            format!(
                "{} by {} (at most {:.4} is explained)",
                change.piece,
                change.change.normalize(),
                change.explained
            )
        })
        .collect();
    if moved.is_empty() {
        return Ok(None);
    }
    let suspect_from = old
        .valid_from
        .0
        .to_zoned_datetime(desk.here.zone.clone())
        .map_err(|error| WebError::Inner(error.to_string()))?
        .timestamp();
    Ok(Some(Asked {
        finding: format!("{} moved: {}", record.standard.tag, moved.join(", ")),
        suspect_from,
    }))
}
