//! A mail server for the demo and the tests: it takes what comes, and keeps it where it can be looked at.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use tokio::io::{AsyncBufRead, AsyncBufReadExt as _, AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, BufReader};
use tokio::net::TcpListener;

/// Longest mail that is taken.
const MAX_MAIL: u64 = 1 << 20;

/// A mail server on loopback that puts each mail into a file of its own.
#[derive(Debug)]
pub struct Sink {
    /// Where it listens.
    pub address: SocketAddr,
    serving: tokio::task::JoinHandle<()>,
}

impl Sink {
    /// Starts it; the files go into this directory, numbered in the order in which they came.
    ///
    /// # Errors
    /// When the directory or a port cannot be had.
    pub async fn start(directory: &Path) -> std::io::Result<Self> {
        std::fs::create_dir_all(directory)?;
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let (directory, number) = (directory.to_path_buf(), Arc::new(AtomicU32::new(1)));
        let serving = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let (directory, number) = (directory.clone(), number.clone());
                tokio::spawn(async move {
                    let keep = |mail: String| {
                        let file = directory.join(format!("{:04}.eml", number.fetch_add(1, Ordering::Relaxed)));
                        if let Err(e) = std::fs::write(&file, mail) {
                            tracing::warn!(error = %e, "a mail of the demo could not be kept");
                        }
                    };
                    take_mail(BufReader::new(stream), keep).await;
                });
            }
        });
        Ok(Self { address, serving })
    }
}

impl Drop for Sink {
    fn drop(&mut self) {
        self.serving.abort();
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
