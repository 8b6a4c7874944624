//! Addresses of this site.

/// Percent-encodes everything but unreserved characters (RFC 3986, 2.3).
pub fn encode(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                encoded.push(char::from(byte));
            }
            other => encoded.push_str(&format!("%{other:02X}")),
        }
    }
    encoded
}

/// A path of this site to go on to; anything else becomes the round, so that a sign-in page
/// cannot be used to send people elsewhere.
pub fn local_path(text: &str) -> String {
    let fine = text.starts_with('/')
        && !text.starts_with("//")
        && !text.contains('\\')
        && !text.chars().any(char::is_control);
    if fine { text.to_owned() } else { "/".to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_paths_of_this_site_are_gone_on_to() {
        assert_eq!(local_path("/checks/3?typed=20%2C012"), "/checks/3?typed=20%2C012");
        for foreign in
            ["//elsewhere.example", "https://elsewhere.example", "/\\elsewhere", "", "/a\nb"]
        {
            assert_eq!(local_path(foreign), "/", "{foreign}");
        }
    }

    #[test]
    fn encoding_is_reversible_text() {
        assert_eq!(encode("20,012 +ä"), "20%2C012%20%2B%C3%A4");
    }
}
