//! What a study rests on, and what a choice comes to.

use jiff::Timestamp;
use vaaka_core::chart::ChartDesign;
use vaaka_core::study::{Study, StudyPoint};
use vaaka_store::charts::StreamView;
use vaaka_store::rows::Segment;
use vaaka_store::studies::{self, LimitProposal, StudyRow};

/// Everything that a study rests on.
pub struct Material {
    pub view: StreamView,
    pub segment: Segment,
    pub baselines: i64,
    pub rows: Vec<StudyRow>,
    pub points: Vec<StudyPoint>,
    pub resolution: f64,
    pub shift_kinds: Vec<String>,
    pub regulars: Vec<String>,
    pub tolerance: (Option<f64>, Option<f64>),
    pub waiting: Option<LimitProposal>,
}

impl Material {
    /// The same as it was then: each shift brings a point, and what is countersigned is what was proposed.
    pub fn back_at(mut self, then: Timestamp) -> Self {
        self.rows.retain(|row| row.point().measured_at <= then);
        self.points.retain(|point| point.measured_at <= then);
        self.regulars = studies::regulars(&self.rows);
        self
    }
}

/// What a choice comes to.
pub struct Proposal {
    pub study: Study,
    pub design: Result<ChartDesign, String>,
    pub points: Vec<StudyPoint>,
}
