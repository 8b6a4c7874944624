//! Numbers and faults of the demo, as they are said.

use rust_decimal::Decimal;

use crate::AppError;

pub fn fault(error: impl std::fmt::Display) -> AppError {
    AppError::Demo(error.to_string())
}

pub fn decimal(text: &str) -> Result<Decimal, AppError> {
    text.parse().map_err(fault)
}
