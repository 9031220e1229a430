use crate::{Result, Store, at, ms};
use jiff::Timestamp;

/// What a token is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// A browser's cookie.
    Console,
    /// The command line.
    Client,
}

/// A token as it is kept: the keyed hash of the secret, never the secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// Keyed hash.
    pub hash: [u8; 32],
    /// Whose.
    pub person: String,
    /// For what.
    pub kind: TokenKind,
    /// When it stops being good.
    pub expires: Timestamp,
}

impl Store {
    /// Adds a token, and forgets those that expired.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_token(&self, token: &Token, now: Timestamp) -> Result<()> {
        let kind = match token.kind {
            TokenKind::Console => "console",
            TokenKind::Client => "client",
        };
        sqlx::query("DELETE FROM tokens WHERE expires <= ?1").bind(ms(now)).execute(&self.write).await?;
        sqlx::query("INSERT INTO tokens (hash, person, kind, created, expires) VALUES (?1, ?2, ?3, ?4, ?5)")
            .bind(&token.hash[..])
            .bind(&token.person)
            .bind(kind)
            .bind(ms(now))
            .bind(ms(token.expires))
            .execute(&self.write)
            .await?;
        Ok(())
    }

    /// The token with this hash, while it is good.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn token(&self, hash: &[u8; 32], now: Timestamp) -> Result<Option<Token>> {
        let row: Option<(String, String, i64)> =
            sqlx::query_as("SELECT person, kind, expires FROM tokens WHERE hash = ?1 AND expires > ?2")
                .bind(&hash[..])
                .bind(ms(now))
                .fetch_optional(&self.read)
                .await?;
        Ok(row.map(|(person, kind, expires)| Token {
            hash: *hash,
            person,
            kind: if kind == "console" { TokenKind::Console } else { TokenKind::Client },
            expires: at(expires),
        }))
    }

    /// Forgets a token.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_token(&self, hash: &[u8; 32]) -> Result<()> {
        sqlx::query("DELETE FROM tokens WHERE hash = ?1").bind(&hash[..]).execute(&self.write).await?;
        Ok(())
    }
}
