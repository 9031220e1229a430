use crate::{Result, Store, at, ms};
use aerie_core::policy::{Factor, Proofs};
use aerie_core::session::Stage;
use jiff::{SignedDuration, Timestamp};
use sqlx::Row as _;
use sqlx::sqlite::SqliteRow;
use std::collections::BTreeMap;

/// What a token is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// A browser's cookie.
    Console,
    /// The command line, signed in.
    Client,
    /// A named token for programs.
    Api,
}

impl TokenKind {
    /// The word for it, as stored and shown.
    pub fn word(self) -> &'static str {
        match self {
            Self::Console => "console",
            Self::Client => "client",
            Self::Api => "api",
        }
    }
}

/// A token as it is kept: the keyed hash of the secret, never the secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// Names it in lists; it opens nothing.
    pub id: String,
    /// Keyed hash.
    pub hash: [u8; 32],
    /// Whose.
    pub person: String,
    /// For what.
    pub kind: TokenKind,
    /// What its owner calls it, or what signed in.
    pub name: String,
    /// Words of what it may be used for; empty for everything that its owner may.
    pub scopes: Vec<String>,
    /// Ed25519 public key that must sign each request.
    pub key: Option<[u8; 32]>,
    /// How far signing in came.
    pub stage: Stage,
    /// What was proved, and when.
    pub proofs: Proofs,
    /// When it was made.
    pub created: Timestamp,
    /// When it stops being good.
    pub expires: Timestamp,
    /// When it was last used.
    pub last_used: Timestamp,
    /// From where.
    pub last_from: String,
}

fn proofs_text(proofs: &Proofs) -> String {
    let all: BTreeMap<&str, i64> = Factor::ALL.into_iter().filter_map(|f| Some((f.word(), ms(proofs.when(f)?)))).collect();
    serde_json::to_string(&all).unwrap_or_default()
}

fn proofs_of(text: &str) -> Proofs {
    let all: BTreeMap<String, i64> = serde_json::from_str(text).unwrap_or_default();
    let mut proofs = Proofs::default();
    all.iter().filter_map(|(word, when)| Some((Factor::from_word(word)?, at(*when)))).for_each(|(f, when)| proofs.prove(f, when));
    proofs
}

impl Token {
    /// A token of somebody who signed in and proved this, good for everything that they may, for so long.
    pub fn signed_in(kind: TokenKind, person: &str, hash: [u8; 32], proofs: Proofs, now: Timestamp, life: SignedDuration) -> Self {
        Self {
            id: format!("{person}-{}", now.as_second()),
            hash,
            person: person.into(),
            kind,
            name: "set up".into(),
            scopes: vec![],
            key: None,
            stage: Stage::Full,
            proofs,
            created: now,
            expires: now + life,
            last_used: now,
            last_from: "127.0.0.1".into(),
        }
    }
}

fn token(row: &SqliteRow) -> Result<Token, sqlx::Error> {
    let (kind, stage, scopes, proofs): (String, String, String, String) =
        (row.try_get("kind")?, row.try_get("stage")?, row.try_get("scopes")?, row.try_get("proofs")?);
    let bytes = |b: Vec<u8>| -> Result<[u8; 32], sqlx::Error> { b.try_into().map_err(|_| sqlx::Error::Decode("32 bytes".into())) };
    Ok(Token {
        id: row.try_get("id")?,
        hash: bytes(row.try_get("hash")?)?,
        person: row.try_get("person")?,
        kind: match kind.as_str() {
            "console" => TokenKind::Console,
            "client" => TokenKind::Client,
            _ => TokenKind::Api,
        },
        name: row.try_get("name")?,
        scopes: scopes.split_whitespace().map(Into::into).collect(),
        key: row.try_get::<Option<Vec<u8>>, _>("key")?.map(bytes).transpose()?,
        stage: Stage::from_word(&stage).unwrap_or(Stage::Proving),
        proofs: proofs_of(&proofs),
        created: at(row.try_get("created")?),
        expires: at(row.try_get("expires")?),
        last_used: at(row.try_get("last_used")?),
        last_from: row.try_get("last_from")?,
    })
}

impl Store {
    /// Every token that has not expired.
    ///
    /// # Errors
    /// When the database refuses or holds what this version does not write.
    pub async fn tokens(&self, now: Timestamp) -> Result<Vec<Token>> {
        let rows = sqlx::query("SELECT * FROM tokens WHERE expires > ?1 ORDER BY created, id").bind(ms(now)).fetch_all(&self.read).await?;
        rows.iter().map(|r| Ok(token(r)?)).collect()
    }

    /// Adds a token.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn add_token(&self, token: &Token) -> Result<()> {
        sqlx::query(
            "INSERT INTO tokens (id, hash, person, kind, name, scopes, key, stage, proofs, created, expires, last_used, last_from) \
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
        )
        .bind(&token.id)
        .bind(&token.hash[..])
        .bind(&token.person)
        .bind(token.kind.word())
        .bind(&token.name)
        .bind(token.scopes.join(" "))
        .bind(token.key.map(|k| k.to_vec()))
        .bind(token.stage.word())
        .bind(proofs_text(&token.proofs))
        .bind(ms(token.created))
        .bind(ms(token.expires))
        .bind(ms(token.last_used))
        .bind(&token.last_from)
        .execute(&self.write)
        .await?;
        Ok(())
    }

    /// Notes when and from where tokens were last used.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn touch_tokens(&self, used: &[(String, Timestamp, String)]) -> Result<()> {
        let mut work = self.write.begin().await?;
        for (id, when, from) in used {
            sqlx::query("UPDATE tokens SET last_used = ?2, last_from = ?3 WHERE id = ?1")
                .bind(id)
                .bind(ms(*when))
                .bind(from)
                .execute(&mut *work)
                .await?;
        }
        Ok(work.commit().await?)
    }

    /// Forgets tokens.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn remove_tokens(&self, ids: &[String]) -> Result<()> {
        let mut work = self.write.begin().await?;
        for id in ids {
            sqlx::query("DELETE FROM tokens WHERE id = ?1").bind(id).execute(&mut *work).await?;
        }
        Ok(work.commit().await?)
    }
}
