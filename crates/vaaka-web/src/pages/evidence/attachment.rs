//! A table as a file that the browser keeps.

use axum::http::header;
use axum::response::{IntoResponse, Response};

/// A file of a table.
pub fn attachment(name: &str, form: &str, media_type: &'static str, text: String) -> Response {
    let headers = [
        (header::CONTENT_TYPE, media_type.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}.{form}\"")),
    ];
    (headers, text).into_response()
}

/// A CSV file.
pub fn as_csv(name: &str, text: String) -> Response {
    attachment(name, "csv", "text/csv; charset=utf-8", text)
}
