//! Charts: streams, segments, points, signals, what is proposed of their limits, and what is told of where they lead.

pub mod charts;
pub mod crossings;
pub mod culprits;
pub mod derived;
pub mod forecasts;
pub mod marks;
pub mod points;
pub mod replay;
pub mod seams;
pub mod signals;
pub mod stretches;
pub mod studies;
