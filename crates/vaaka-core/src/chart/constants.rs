//! Constants of control charts for normal data.
//!
//! d₂(n) is the mean and d₃(n) the standard deviation of the range of n standard normal values;
//! c₄(n) is the mean of their sample standard deviation. The values were made by numerical
//! integration (`tools/reference/control_constants.py`, SciPy); a test reads that script's output.

/// d₂(2) = 2/√π: mean moving range of two consecutive individuals, in sigmas.
pub const D2_OF_TWO: f64 = 1.128_379_167_095_512_6;

/// D₄ for moving ranges of two, 1 + 3·d₃/d₂: upper limit of the range over its mean.
pub const D4_OF_TWO: f64 = 3.266_531_918_921_494;
