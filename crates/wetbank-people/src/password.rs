//! Passwords: argon2id (RFC 9106), a few at once.

use std::sync::{Arc, LazyLock};

use argon2::{
    Argon2, PasswordHash, PasswordHasher, PasswordVerifier,
    password_hash::{SaltString, rand_core::OsRng},
};
use secrecy::{ExposeSecret, SecretString};
use tokio::sync::Semaphore;

use crate::PeopleError;

/// At once: each takes 19 MiB and a core for some 20 ms.
const AT_ONCE: usize = 2;
/// So many may wait for their turn: a second or two.
const WAITING: usize = 64;
/// The shortest password: what is chosen by people is guessed below that.
const SHORTEST: usize = 12;
/// The longest, so that nobody keeps us busy with megabytes; in bytes.
const LONGEST: usize = 1024;

/// Makes and checks what is kept of passwords.
#[derive(Debug, Clone)]
pub struct Passwords {
    turns: Arc<Semaphore>,
    waiting: Arc<Semaphore>,
}

impl Default for Passwords {
    fn default() -> Self {
        Self { turns: Arc::new(Semaphore::new(AT_ONCE)), waiting: Arc::new(Semaphore::new(WAITING)) }
    }
}

fn made(password: &str) -> String {
    let salt = SaltString::generate(&mut OsRng);
    let made = Argon2::default().hash_password(password.as_bytes(), &salt);
    made.expect("the parameters are argon2's own").to_string()
}

/// What the password of an unknown name is compared with: that takes as long as with a known one.
static NOBODY: LazyLock<String> = LazyLock::new(|| made("nobody's"));

impl Passwords {
    /// Looks whether a password may be one of this user.
    ///
    /// # Errors
    ///
    /// What is wrong with it.
    pub fn check(password: &SecretString, name: &str) -> Result<(), PeopleError> {
        let text = password.expose_secret();
        let letters: std::collections::BTreeSet<char> = text.chars().collect();
        let weak = if text.chars().count() < SHORTEST {
            "must have at least 12 characters; three or four words make a good one"
        } else if text.len() > LONGEST {
            "must have at most 1,024 bytes"
        } else if letters.len() < 5 {
            "repeats itself; three or four words make a good one"
        } else if text.to_lowercase().replace(name, "").chars().count() < SHORTEST / 2 {
            "is little more than your name; three or four words make a good one"
        } else {
            return Ok(());
        };
        Err(PeopleError::Weak(weak))
    }

    /// What is kept of a password, in the PHC string format.
    ///
    /// # Errors
    ///
    /// If too many wait.
    pub async fn keep(&self, password: &SecretString) -> Result<String, PeopleError> {
        let password = password.clone();
        self.apart(move || made(password.expose_secret())).await
    }

    /// Whether it is the password of which this is kept; never, if nothing is, which takes as long to find out.
    ///
    /// # Errors
    ///
    /// If too many wait.
    pub async fn fits(&self, password: &SecretString, kept: Option<&str>) -> Result<bool, PeopleError> {
        let (password, kept) = (password.clone(), kept.map(str::to_owned));
        self.apart(move || {
            let text = password.expose_secret();
            if text.len() > LONGEST {
                return false;
            }
            let compared = kept.as_deref().unwrap_or(&NOBODY);
            let fits = PasswordHash::new(compared)
                .is_ok_and(|compared| Argon2::default().verify_password(text.as_bytes(), &compared).is_ok());
            fits && kept.is_some()
        })
        .await
    }

    async fn apart<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T, PeopleError> {
        let waits = self.waiting.clone().try_acquire_owned().map_err(|_| PeopleError::Busy)?;
        let turn = self.turns.clone().acquire_owned().await.map_err(|_| PeopleError::Busy)?;
        let done = tokio::task::spawn_blocking(move || {
            let _held = (waits, turn);
            work()
        });
        done.await.map_err(|_| PeopleError::Busy)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn only_the_password_that_is_kept_fits() {
        let passwords = Passwords::default();
        let kept = passwords.keep(&"four grey herons".into()).await.unwrap();
        assert!(kept.starts_with("$argon2id$") && !kept.contains("heron"), "{kept}");
        assert!(passwords.fits(&"four grey herons".into(), Some(&kept)).await.unwrap());
        assert!(!passwords.fits(&"four grey heron".into(), Some(&kept)).await.unwrap());
        assert!(!passwords.fits(&"nobody's".into(), None).await.unwrap());
        let again = passwords.keep(&"four grey herons".into()).await.unwrap();
        assert_ne!(kept, again, "two who choose the same cannot be told");
    }

    #[test]
    fn what_is_easy_to_guess_is_no_password() {
        for (password, is_fine) in [
            ("four grey herons", true),
            ("short", false),
            ("aaaaaaaaaaaaaaaa", false),
            ("ina.merrow-inaina", true),
            ("inainainaina", false),
            (&"x".repeat(2000), false),
        ] {
            assert_eq!(Passwords::check(&password.into(), "ina").is_ok(), is_fine, "{password}");
        }
    }
}
