//! What a method shows while measuring, and on verdict and record: numbers, curves, and errors on beams.

use vaaka_core::method::{Fact, Live, Method, Picture, PlanSpec, RunState};
use vaaka_store::ids::CertificateId;
use vaaka_store::plans::PlanView;
use vaaka_store::rows::Check;
use vaaka_store::{Connection, entries};

use crate::draw::{Beam, BeamMark, BeamSize, draw_plane, draw_plot, plane_values, plot_values};
use crate::error::WebError;
use crate::state::AppState;

/// What is shown.
#[derive(Debug, Default)]
pub struct LiveView {
    /// Numbers.
    pub facts: Vec<Fact>,
    /// Curves.
    pub plots: Vec<PlotView>,
    /// Errors.
    pub bars: Option<BarsView>,
}

/// Curves.
#[derive(Debug)]
pub struct PlotView {
    /// Heading.
    pub title: String,
    /// Drawing.
    pub svg: String,
    /// Values under the pointer, for the page's script.
    pub values: String,
}

/// Errors, each on its beam.
#[derive(Debug)]
pub struct BarsView {
    /// Heading.
    pub title: String,
    /// Name, beam, value.
    pub rows: Vec<BarRow>,
}

/// One of them.
#[derive(Debug)]
pub struct BarRow {
    /// What it is of.
    pub name: String,
    /// Drawing.
    pub beam: String,
    /// Its value.
    pub words: String,
}

impl LiveView {
    /// What a run comes to so far.
    pub fn of(method: &dyn Method, plan: &PlanSpec, run: &RunState) -> Result<Self, WebError> {
        let Live { facts, pictures } = method.live(plan, run)?;
        let mut view = Self { facts, ..Self::default() };
        for picture in pictures {
            match picture {
                Picture::Plot(plot) => view.plots.push(PlotView {
                    svg: draw_plot(&plot),
                    values: plot_values(&plot),
                    title: plot.title,
                }),
                Picture::Plane(plane) => view.plots.push(PlotView {
                    svg: draw_plane(&plane),
                    values: plane_values(&plane),
                    title: plane.title,
                }),
                Picture::Bars(bars) => {
                    let rows = bars.bars.into_iter().map(|bar| {
                        let state = if bar.inside == Some(false) { "out" } else { "ok" };
                        let beam = Beam {
                            tolerance: (bar.lower, bar.upper),
                            mark: Some(BeamMark { value: bar.value, state }),
                            ..Beam::new(BeamSize::Row, format!("{}: {}", bar.name, bar.words))
                        };
                        BarRow { name: bar.name, beam: beam.draw(), words: bar.words }
                    });
                    view.bars = Some(BarsView { title: bars.title, rows: rows.collect() });
                }
            }
        }
        Ok(view)
    }

    /// The curves of a check that is over; nothing is read for one without any.
    pub async fn of_check(
        (state, connection): (&AppState, &mut Connection),
        (check, view): (&Check, &PlanView),
        certificates: &[CertificateId],
    ) -> Result<Self, WebError> {
        let purpose = check.purpose.parse().map_err(|_| WebError::Inner("purpose".into()))?;
        let way = state.way(connection, view, certificates, purpose).await?;
        if !way.method.draws() {
            return Ok(Self::default());
        }
        let run = entries::entries(connection, check.id).await?.run_state()?;
        // What stands in the table of results is not said twice.
        let judged = way.method.so_far(&way.spec, &run)?;
        let mut view = Self { bars: None, ..Self::of(way.method, &way.spec, &run)? };
        view.facts.retain(|fact| judged.iter().all(|one| one.label != fact.name));
        Ok(view)
    }

    /// Whether there is nothing to show.
    pub fn is_empty(&self) -> bool {
        self.plots.is_empty() && self.bars.is_none() && self.facts.is_empty()
    }
}
