//! A mail server and a receiver of webhooks for the demo and the tests: they take what comes, and keep it where it can be looked at.

use tokio::io::{AsyncBufRead, AsyncBufReadExt as _, AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

/// Longest mail that is taken.
const MAX_MAIL: u64 = 1 << 20;

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
