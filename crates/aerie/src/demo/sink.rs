//! A mail server and a receiver of webhooks for the demo and the tests: they take what comes, and keep it where it can be looked at.

use std::collections::{BTreeMap, HashSet};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::io::{AsyncBufRead, AsyncBufReadExt as _, AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, BufReader};
use tokio::net::TcpListener;

/// Longest mail or body that is taken.
const MAX_MAIL: u64 = 1 << 20;

/// Longest head of a request.
const MAX_HEAD: u64 = 16 << 10;
/// Notices whose identifiers are remembered.
const REMEMBERED: usize = 10_000;

/// A mail server and a receiver of webhooks on loopback, that put what comes into a file each.
#[derive(Debug)]
pub struct Sink {
    /// Where mail is taken.
    pub mail: SocketAddr,
    /// Where webhooks are taken.
    pub hooks: SocketAddr,
    serving: [tokio::task::JoinHandle<()>; 2],
}

/// Keeps what comes in files of a directory, numbered in the order in which they came.
#[derive(Debug)]
struct Shelf {
    directory: PathBuf,
    ending: &'static str,
    number: AtomicU32,
}

/// The newest link to a page of this path that a mail below this directory has, once it has come; at most for half a minute.
pub(super) async fn mailed_link(directory: &Path, page: &str) -> Option<String> {
    let link_in = || {
        let files = std::fs::read_dir(directory.join("mail")).ok()?.flatten().map(|f| f.path());
        let mut files: Vec<_> = files.collect();
        files.sort();
        files.iter().rev().find_map(|file| {
            // A long line may be broken softly (RFC 2045 section 6.7).
            let text = std::fs::read_to_string(file).ok()?.replace("=\r\n", "").replace("=\n", "");
            text.split_whitespace().find(|w| w.contains(page)).map(String::from)
        })
    };
    for _ in 0..300 {
        if let Some(link) = link_in() {
            return Some(link);
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    None
}

impl Shelf {
    fn new(directory: PathBuf, ending: &'static str) -> std::io::Result<Arc<Self>> {
        std::fs::create_dir_all(&directory)?;
        Ok(Arc::new(Self { directory, ending, number: AtomicU32::new(1) }))
    }

    fn keep(&self, text: &str) {
        let file = self.directory.join(format!("{:04}.{}", self.number.fetch_add(1, Ordering::Relaxed), self.ending));
        if let Err(e) = std::fs::write(&file, text) {
            tracing::warn!(error = %e, "what the demo was sent could not be kept");
        }
    }
}

impl Sink {
    /// Starts both; the files go into `mail` and `webhooks` below this directory.
    ///
    /// # Errors
    /// When a directory or a port cannot be had.
    pub async fn start(directory: &Path) -> std::io::Result<Self> {
        let (mails, hooks) = (Shelf::new(directory.join("mail"), "eml")?, Shelf::new(directory.join("webhooks"), "json")?);
        let listen = || TcpListener::bind((Ipv4Addr::LOCALHOST, 0));
        let (mail_at, hooks_at) = (listen().await?, listen().await?);
        let (mail, hook) = (mail_at.local_addr()?, hooks_at.local_addr()?);
        let taking_mail = tokio::spawn(async move {
            while let Ok((stream, _)) = mail_at.accept().await {
                let mails = mails.clone();
                tokio::spawn(async move { take_mail(BufReader::new(stream), |mail| mails.keep(&mail)).await });
            }
        });
        let known = Arc::new(Mutex::new(HashSet::new()));
        let taking_hooks = tokio::spawn(async move {
            while let Ok((stream, _)) = hooks_at.accept().await {
                let (hooks, known) = (hooks.clone(), known.clone());
                tokio::spawn(async move {
                    let mut stream = BufReader::new(stream);
                    while let Some(hook) = take_hook(&mut stream).await {
                        // The same notice may come twice; whoever honours its identifier takes it once.
                        let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
                        if known.len() < REMEMBERED && known.insert(hook.headers.get("idempotency-key").cloned()) {
                            hooks.keep(&hook.body);
                        }
                    }
                });
            }
        });
        Ok(Self { mail, hooks: hook, serving: [taking_mail, taking_hooks] })
    }
}

/// A request of a webhook.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hook {
    /// Method and path.
    pub line: String,
    /// Headers, their names in lower case.
    pub headers: BTreeMap<String, String>,
    /// What was sent.
    pub body: String,
}

/// Takes one request (RFC 9112) and answers that it was taken; none when the client leaves, or sends what is no such request.
pub async fn take_hook<S: AsyncBufRead + AsyncRead + AsyncWrite + Unpin>(stream: &mut S) -> Option<Hook> {
    let mut lines = vec![];
    let mut left = MAX_HEAD;
    loop {
        let mut line = String::new();
        let n = (&mut *stream).take(left).read_line(&mut line).await.ok().filter(|n| *n > 0)?;
        left = left.checked_sub(n as u64).filter(|l| *l > 0)?;
        let line = line.trim_end().to_string();
        if line.is_empty() {
            break;
        }
        lines.push(line);
    }
    let mut lines = lines.into_iter();
    let line = lines.next()?;
    let headers: BTreeMap<String, String> =
        lines.filter_map(|l| l.split_once(':').map(|(n, v)| (n.to_ascii_lowercase(), v.trim().to_string()))).collect();
    let length: u64 = headers.get("content-length")?.parse().ok().filter(|n| *n <= MAX_MAIL)?;
    let mut body = vec![0; usize::try_from(length).ok()?];
    stream.read_exact(&mut body).await.ok()?;
    stream.write_all(b"HTTP/1.1 204 No Content\r\n\r\n").await.ok()?;
    Some(Hook { line, headers, body: String::from_utf8(body).ok()? })
}

impl Drop for Sink {
    fn drop(&mut self) {
        self.serving.iter().for_each(|s| s.abort());
    }
}

/// Speaks SMTP (RFC 5321) as a server that takes every mail, until the client leaves.
pub async fn take_mail<S: AsyncBufRead + AsyncRead + AsyncWrite + Unpin>(mut stream: S, mut each: impl FnMut(String)) {
    let mut line = String::new();
    if stream.write_all(b"220 sink.corvid.example\r\n").await.is_err() {
        return;
    }
    loop {
        line.clear();
        if !matches!((&mut stream).take(4096).read_line(&mut line).await, Ok(1..)) {
            return;
        }
        let verb = line.split_whitespace().next().unwrap_or_default().to_ascii_uppercase();
        let answer = match verb.as_str() {
            "EHLO" | "HELO" | "MAIL" | "RCPT" | "RSET" | "NOOP" => "250 ok",
            "DATA" => {
                if stream.write_all(b"354 go on\r\n").await.is_err() {
                    return;
                }
                let Some(mail) = body(&mut stream).await else { return };
                each(mail);
                "250 taken"
            }
            "QUIT" => "221 bye",
            _ => "502 not known here",
        };
        if stream.write_all(format!("{answer}\r\n").as_bytes()).await.is_err() || verb == "QUIT" {
            return;
        }
    }
}

/// Everything to the line with a dot alone.
async fn body<S: AsyncBufRead + Unpin>(stream: &mut S) -> Option<String> {
    let mut limited = stream.take(MAX_MAIL);
    let mut mail = String::new();
    loop {
        let before = mail.len();
        if limited.read_line(&mut mail).await.ok()? == 0 {
            return None;
        }
        let line = mail.get(before..)?.trim_end();
        if line == "." {
            mail.truncate(before);
            return Some(mail);
        }
    }
}
