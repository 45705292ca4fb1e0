//! The second factor's codes (RFC 6238): six digits, a new one every 30 seconds, each good once.

use jiff::Timestamp;
use rand::RngCore;
use secrecy::{ExposeSecret, SecretString};
use totp_rs::{Builder, Secret, Totp};

use crate::PeopleError;

/// A seed of codes: 20 bytes of chance, as RFC 4226 (section 4) recommends.
#[derive(Debug, Clone)]
pub struct Seed(SecretString);

/// What an app that shows codes is given.
#[derive(Debug, Clone)]
pub struct Codes(Totp);

impl Seed {
    /// A new one.
    pub fn new() -> Self {
        let mut bytes = [0_u8; 20];
        rand::rngs::OsRng.fill_bytes(&mut bytes);
        Self(Secret::from(bytes.to_vec()).to_base32().into())
    }

    /// Its base32 text, for whom it is made.
    pub fn reveal(&self) -> &str {
        self.0.expose_secret()
    }

    pub(crate) fn text(&self) -> &SecretString {
        &self.0
    }

    /// The codes that it gives, for a user.
    ///
    /// # Errors
    ///
    /// If it is no seed.
    pub fn codes(&self, user: &str) -> Result<Codes, PeopleError> {
        let wrong = |what: String| PeopleError::Sealed(what);
        let secret = Secret::try_from_base32(self.reveal()).map_err(|error| wrong(error.to_string()))?;
        let built = Builder::new().with_secret(secret).with_account_name(user).with_issuer(Some("Wetbank")).build();
        built.map(Codes).map_err(|error| wrong(error.to_string()))
    }
}

impl From<SecretString> for Seed {
    /// One that was made before, as its base32 text.
    fn from(text: SecretString) -> Self {
        Self(text)
    }
}

impl Default for Seed {
    fn default() -> Self {
        Self::new()
    }
}

impl Codes {
    /// The address that an app reads from a picture (`otpauth://totp/…`).
    ///
    /// # Errors
    ///
    /// If the name cannot stand in an address.
    pub fn address(&self) -> Result<String, PeopleError> {
        self.0.to_url().map_err(|error| PeopleError::Sealed(error.to_string()))
    }

    /// The time step whose code this is: now, or the one before or after it for clocks that differ.
    pub fn step(&self, code: &str, now: Timestamp) -> Option<i64> {
        let bare: String = code.chars().filter(|letter| !letter.is_whitespace()).collect();
        let step = self.0.check(&bare, now.as_second().try_into().ok()?)?;
        i64::try_from(step).ok()
    }

    /// The code of a time.
    pub fn at(&self, now: Timestamp) -> String {
        self.0.generate(now.as_second().try_into().unwrap_or_default()).to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 6238, appendix B, cut to six digits.
    #[test]
    fn codes_are_those_of_the_rfc() {
        let seed = Seed(Secret::from(b"12345678901234567890".to_vec()).to_base32().into());
        let codes = seed.codes("ina").unwrap();
        for (second, code) in [(59, "287082"), (1_111_111_109, "081804"), (2_000_000_000, "279037")] {
            let now = Timestamp::from_second(second).unwrap();
            assert_eq!(codes.at(now), code);
            assert_eq!(codes.step(code, now), Some(second / 30));
            assert_eq!(codes.step(&format!("{} {}", &code[..3], &code[3..]), now), Some(second / 30));
        }
        let now = Timestamp::from_second(59).unwrap();
        for wrong in ["287083", "", "28708", "2870822", "\u{661}\u{662}\u{663}\u{664}\u{665}\u{666}"] {
            assert_eq!(codes.step(wrong, now), None, "{wrong}");
        }
        let address = codes.address().unwrap();
        assert!(address.starts_with("otpauth://totp/Wetbank:ina?secret="), "{address}");
    }
}
