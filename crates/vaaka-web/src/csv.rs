//! Tables out as CSV (RFC 4180).

/// A table with its heads. Fields with a comma, a quote or a line end are quoted; a field that a
/// spreadsheet would take for a formula gets an apostrophe before it, so that nothing that somebody
/// typed is ever run.
pub fn table(heads: &[&str], rows: impl Iterator<Item = Vec<String>>) -> String {
    let mut text = String::new();
    line(&mut text, heads.iter().map(|head| (*head).to_owned()));
    for row in rows {
        line(&mut text, row.into_iter());
    }
    text
}

fn line(text: &mut String, fields: impl Iterator<Item = String>) {
    for (index, field) in fields.enumerate() {
        if index > 0 {
            text.push(',');
        }
        text.push_str(&escaped(&field));
    }
    text.push_str("\r\n");
}

fn escaped(field: &str) -> String {
    let number = field.strip_prefix(['-', '+']).unwrap_or(field);
    let is_number = !number.is_empty() && number.chars().all(|c| c.is_ascii_digit() || c == '.');
    let formula = field.starts_with(['=', '+', '-', '@', '\t', '\r']) && !is_number;
    let field = if formula { format!("'{field}") } else { field.to_owned() };
    if field.contains([',', '"', '\n', '\r']) {
        format!("\"{}\"", field.replace('"', "\"\""))
    } else {
        field
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("plain", "plain")]
    #[case("a,b", "\"a,b\"")]
    #[case("say \"so\"", "\"say \"\"so\"\"\"")]
    #[case("two\nlines", "\"two\nlines\"")]
    #[case("-12.5", "-12.5")]
    #[case("=1+1", "'=1+1")]
    #[case("-x", "'-x")]
    #[case("@cmd", "'@cmd")]
    #[case("", "")]
    fn fields(#[case] field: &str, #[case] expected: &str) {
        assert_eq!(escaped(field), expected);
    }

    #[test]
    fn lines_end_as_the_standard_says() {
        let rows = [vec!["1".to_owned(), "x".to_owned()]];
        assert_eq!(table(&["a", "b"], rows.into_iter()), "a,b\r\n1,x\r\n");
    }
}
