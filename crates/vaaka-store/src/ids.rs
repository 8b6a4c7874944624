//! Every id a type of its own, so that none can stand for another.

use diesel_derive_newtype::DieselNewType;
use serde::{Deserialize, Serialize};

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, DieselNewType)]
        #[serde(transparent)]
        pub struct $name(pub i64);

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                self.0.fmt(f)
            }
        }
    )+};
}

ids! {
    /// A person.
    PersonId,
    /// A site.
    SiteId,
    /// An area of a site.
    AreaId,
    /// A shift as it really was.
    ShiftId,
    /// An instrument.
    InstrumentId,
    /// A set-up of an instrument.
    SetUpId,
    /// Something that happened to an instrument.
    EventId,
    /// A check standard.
    StandardId,
    /// The piece, set or batch that is the standard at a time.
    LotId,
    /// A certificate.
    CertificateId,
    /// A crossover between two lots.
    CrossoverId,
    /// A look-back over what rested on a standard.
    LookBackId,
    /// A table that was brought in.
    ImportId,
    /// A look over everything.
    TrailLookId,
    /// A report that is kept.
    ReportId,
    /// A key of another program.
    KeyId,
    /// What came of an instrument at a step.
    CaptureId,
    /// A photograph or document.
    FileId,
    /// A training.
    TrainingId,
    /// A plan.
    PlanId,
    /// A version of a plan.
    PlanVersionId,
    /// A check.
    CheckId,
    /// A kept entry of a check.
    ReadingId,
    /// A result of a check.
    ResultId,
    /// A chart stream.
    StreamId,
    /// A segment of a stream.
    SegmentId,
    /// A point of a stream.
    PointId,
    /// A signal.
    SignalId,
    /// A cause of signals that the site knows.
    CauseId,
    /// A notice.
    NoticeId,
    /// A mail.
    MailId,
    /// An adjustment.
    AdjustmentId,
}
