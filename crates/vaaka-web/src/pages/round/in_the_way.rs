//! Standards that stand in the way of a check: what would be refused at its beginning is not offered.

use jiff::Timestamp;
use jiff::civil::Date;
use vaaka_core::standard::{StandardFacts, check_fitness, kind_words};
use vaaka_store::Connection;
use vaaka_store::ids::PlanVersionId;
use vaaka_store::{plans, standards};

use crate::error::WebError;
use crate::shell::Here;

/// Why a check cannot begin now, and the standard, where it is one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::pages) struct InTheWay {
    /// What is wrong with it.
    pub words: String,
    /// Its tag; none where no standard of the kind can serve.
    pub tag: Option<String>,
}

/// The standards as they are now, and what the plans asked about want beside their own.
pub(in crate::pages) struct Standards {
    facts: Vec<StandardFacts>,
    further: Vec<(PlanVersionId, String)>,
    now: Timestamp,
    today: Date,
}

impl Standards {
    /// Reads them once for several plans.
    pub(in crate::pages) async fn read(
        connection: &mut Connection,
        versions: &[PlanVersionId],
        here: &Here,
        now: Timestamp,
    ) -> Result<Self, WebError> {
        let further = plans::further_standards(connection, versions).await?;
        let today = now.to_zoned_datetime(here.zone.clone()).date();
        let all = standards::all(connection, today).await?;
        let facts = all.iter().map(standards::Record::facts).collect::<Result<_, _>>()?;
        Ok(Self { facts, further, now, today })
    }

    fn unfit(&self, facts: &StandardFacts) -> Option<String> {
        check_fitness(facts, 0, self.now, self.today).err().map(|unfit| unfit.to_string())
    }

    /// What stands in the way of a plan that names its standard, or takes any of a kind.
    pub(in crate::pages) fn of(
        &self,
        version: PlanVersionId,
        (own, kind): (Option<&str>, Option<&str>),
    ) -> Option<InTheWay> {
        let further = self.further.iter().filter(|(of, _)| *of == version);
        let mut named = own.into_iter().chain(further.map(|(_, tag)| tag.as_str()));
        let found = named.find_map(|tag| {
            let words = self.unfit(self.facts.iter().find(|one| one.tag == tag)?)?;
            Some(InTheWay { words, tag: Some(tag.to_owned()) })
        });
        found.or_else(|| {
            let kind = kind?;
            let mut of_kind = self.facts.iter().filter(|one| one.kind == kind);
            let none = of_kind.all(|one| self.unfit(one).is_some());
            let words = format!("no {} can be used now", kind_words(kind));
            none.then_some(InTheWay { words, tag: None })
        })
    }
}
