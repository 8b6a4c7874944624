//! Passwords: argon2id, away from the async threads.

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};

use crate::error::WebError;

/// Hashes a password with argon2id and a random salt, as a PHC string.
///
/// # Errors
/// A sentence when the machine gives no randomness or memory.
pub fn hash_password(password: &str) -> Result<String, String> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .map(|hash| hash.to_string())
        .map_err(|error| error.to_string())
}

/// As [`hash_password`], away from the async threads.
pub async fn hash_in_background(password: String) -> Result<String, WebError> {
    let work = move || hash_password(&password).map_err(WebError::Inner);
    tokio::task::spawn_blocking(work).await.map_err(|error| WebError::Inner(error.to_string()))?
}

/// A hash of nothing in particular, so that an unknown name takes as long as a wrong password.
const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$bm9ib2R5bm9ib2R5bm9ibw$Zm5HVhgLbI1dZL1O9zHqmIqZEMUX4V9HLXgYCkV0c5Q";

/// Whether a password belongs to a hash; false for nobody's.
pub async fn verify(password: String, hash: Option<String>) -> Result<bool, WebError> {
    let work = move || {
        let known = hash.is_some();
        let text = hash.unwrap_or_else(|| NOBODY.to_owned());
        let fits = PasswordHash::new(&text).is_ok_and(|hash| {
            Argon2::default().verify_password(password.as_bytes(), &hash).is_ok()
        });
        known && fits
    };
    tokio::task::spawn_blocking(work).await.map_err(|error| WebError::Inner(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_password_fits_its_own_hash_only() {
        let hash = hash_password("kuusi vettä").unwrap();
        assert!(hash.starts_with("$argon2id$"));
        assert!(verify("kuusi vettä".into(), Some(hash.clone())).await.unwrap());
        assert!(!verify("kuusi vetta".into(), Some(hash)).await.unwrap());
        assert!(!verify("anything".into(), None).await.unwrap());
    }

    #[test]
    fn nobodys_hash_is_a_hash() {
        assert!(PasswordHash::new(NOBODY).is_ok());
    }
}
