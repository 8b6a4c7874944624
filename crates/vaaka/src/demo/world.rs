//! The rows of the demo world, and its people.

use jiff::Timestamp;
use vaaka_store::audit::AuditEntry;
use vaaka_store::rows::*;

/// What is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Request {
    /// Days of history.
    pub days: u16,
    /// Seed.
    pub seed: u64,
    /// The moment at which it ends.
    pub ends_at: Timestamp,
}

/// All rows, in memory before they are written.
#[derive(Debug, Default)]
pub struct World {
    /// People.
    pub people: Vec<Person>,
    /// The site.
    pub sites: Vec<Site>,
    /// Areas.
    pub areas: Vec<Area>,
    /// Shift pattern.
    pub shift_starts: Vec<ShiftStartRow>,
    /// Shifts as they were.
    pub shifts: Vec<Shift>,
    /// Instruments.
    pub instruments: Vec<Instrument>,
    /// Set-ups.
    pub set_ups: Vec<SetUp>,
    /// Events.
    pub events: Vec<InstrumentEvent>,
    /// Standards.
    pub standards: Vec<Standard>,
    /// Lots.
    pub lots: Vec<Lot>,
    /// Certificates.
    pub certificates: Vec<Certificate>,
    /// Certified values.
    pub certified_values: Vec<CertifiedValue>,
    /// Changes of state of standards.
    pub standard_states: Vec<StandardStateRow>,
    /// Uses of lots.
    pub standard_uses: Vec<StandardUse>,
    /// Trainings.
    pub trainings: Vec<Training>,
    /// Plans.
    pub plans: Vec<Plan>,
    /// Plan versions.
    pub plan_versions: Vec<PlanVersion>,
    /// Points of the plans.
    pub plan_points: Vec<PlanPointRow>,
    /// Checks.
    pub checks: Vec<Check>,
    /// Further certificates of the checks.
    pub check_standards: Vec<CheckStandard>,
    /// Readings.
    pub readings: Vec<Reading>,
    /// Traces among them, and their channels.
    pub traces: Vec<vaaka_store::traces::TraceRow>,
    /// Channels of the traces.
    pub trace_channels: Vec<vaaka_store::traces::ChannelRow>,
    /// Results.
    pub results: Vec<ResultRow>,
    /// Characteristics.
    pub characteristics: Vec<CharacteristicRow>,
    /// Uncertainty budgets.
    pub budgets: Vec<BudgetRow>,
    /// Streams.
    pub streams: Vec<Stream>,
    /// Segments.
    pub segments: Vec<Segment>,
    /// Baselines.
    pub baselines: Vec<Baseline>,
    /// Points.
    pub points: Vec<Point>,
    /// Signals.
    pub signals: Vec<SignalRow>,
    /// What was done about them.
    pub signal_steps: Vec<SignalStepRow>,
    /// Audit trail.
    pub audit: Vec<AuditEntry>,
}

/// Someone who works at the mill.
#[derive(Debug, Clone, Copy)]
pub struct Colleague {
    /// Sign-in name.
    pub sign_in: &'static str,
    /// Name.
    pub name: &'static str,
    /// Role.
    pub role: &'static str,
    /// Password of the demo.
    pub password: &'static str,
}

/// The people; the first four are technicians, then two leads, an auditor and an administrator.
pub const COLLEAGUES: [Colleague; 8] = [
    Colleague {
        sign_in: "aino",
        name: "Aino Verkala",
        role: "technician",
        password: "kapea-silta-4",
    },
    Colleague {
        sign_in: "teemu",
        name: "Teemu Ronsala",
        role: "technician",
        password: "kuiva-kivi-7",
    },
    Colleague {
        sign_in: "sirja",
        name: "Sirja Holmila",
        role: "technician",
        password: "pitka-ilta-2",
    },
    Colleague {
        sign_in: "pekko",
        name: "Pekko Jarvia",
        role: "technician",
        password: "vanha-laituri-9",
    },
    Colleague { sign_in: "ilma", name: "Ilma Tarvola", role: "lead", password: "tyyni-selka-3" },
    Colleague {
        sign_in: "rauno",
        name: "Rauno Keskila",
        role: "lead",
        password: "hiljainen-vuo-5",
    },
    Colleague { sign_in: "veera", name: "Veera Sandila", role: "viewer", password: "avoin-ovi-8" },
    Colleague {
        sign_in: "onni",
        name: "Onni Laaksamo",
        role: "administrator",
        password: "uusi-portti-6",
    },
];

/// Index of the first lead.
pub const LEAD: usize = 4;
/// Index of the second lead.
pub const SECOND_LEAD: usize = 5;

/// Sign-in name, password and role of those whom a newcomer may try.
#[must_use]
pub fn sign_ins() -> Vec<(String, String, String)> {
    [0, LEAD, SECOND_LEAD, 6, 7]
        .into_iter()
        .map(|index| {
            let one = COLLEAGUES[index];
            (one.sign_in.to_owned(), one.password.to_owned(), one.role.to_owned())
        })
        .collect()
}
