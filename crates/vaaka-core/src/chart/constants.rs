//! Constants of control charts for normal data.
//!
//! d₂(n) is the mean range of n standard normal values. Checked against numerical integration
//!  (`tools/reference/control_constants.py`, SciPy); a test reads that script's output.

/// d₂(2) = 2/√π: mean moving range of two consecutive individuals, in sigmas.
pub const D2_OF_TWO: f64 = std::f64::consts::FRAC_2_SQRT_PI;
