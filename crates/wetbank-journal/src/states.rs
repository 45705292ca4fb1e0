//! How places did.

use std::time::Duration;

use jiff::Timestamp;

use crate::{Journal, JournalError, records};

/// So long it is remembered how a place did.
const REMEMBERED: Duration = Duration::from_secs(8 * 86_400);

/// How a place did from a time on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlaceState {
    /// From when on.
    pub at: Timestamp,
    /// `well`, `away` or `unknown`.
    pub state: String,
    /// Why it is away.
    pub why: Option<String>,
}

impl Journal {
    /// Records how places do from now on: `well`, `away` or `unknown`, and why.
    pub async fn note_states(
        &self,
        places: Vec<String>,
        state: &'static str,
        why: Option<String>,
        at: Timestamp,
    ) -> Result<(), JournalError> {
        let old = at.checked_sub(REMEMBERED).unwrap_or(at).as_millisecond();
        let at = at.as_millisecond();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    for place in places {
                        sqlx::query_file!("queries/place_state_put.sql", place, at, state, why)
                            .execute(&mut *connection)
                            .await?;
                    }
                    sqlx::query_file!("queries/place_state_purge.sql", old).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// How a place did since a time, beginning with what was so then.
    pub async fn place_states(&self, place: &str, since: Timestamp) -> Result<Vec<PlaceState>, JournalError> {
        let since = since.as_millisecond();
        let rows = sqlx::query_file!("queries/place_states.sql", place, since).fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|row| PlaceState { at: records::time(row.at), state: row.state, why: row.why })
            .collect())
    }
}
