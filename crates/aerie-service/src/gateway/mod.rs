//! The SSH gateway: people sign in here, and a second connection, of Aerie's own, goes to the machine.

mod admission;
mod carry;
mod channel;
mod connection;
mod consents;
mod desktop;
mod keys;
mod life;
mod ports;
mod questions;
mod visit_shell;
mod visitor;

pub(crate) use connection::SignedInBy;
pub(crate) use desktop::{Beginning, Desktop, Desktops};
pub(crate) use keys::UserAuthority;
pub(crate) use ports::Ports;
pub(crate) use visit_shell::begin as begin_visit_shell;

use crate::places::{Place, Places};
use crate::service::App;
use aerie_core::diagnostic::printable;
use aerie_core::settings::Setting;
use russh::server::Config;
use russh::{AlgorithmKind, MethodKind, MethodSet, Preferred, SshId, cipher, compression, kex, mac};
use std::borrow::Cow;
use std::net::IpAddr;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::{TcpListener, TcpStream};
use visitor::Visitor;

/// Connections that have not signed in yet, at most: in all, and from one address. More are closed at once.
const MOST_WAITING: u32 = 512;
const MOST_WAITING_FROM_ONE: u32 = 64;
/// How long a client may take to name its version (RFC 4253 section 4.2).
const GREETING: Duration = Duration::from_secs(10);
/// How long signing in may take: somebody has to find their phone.
const GRACE: Duration = Duration::from_secs(120);
/// How long a session gets to say that its sign-in is over.
const FAREWELL: Duration = Duration::from_secs(5);
/// Bytes on a channel that may be under way. More costs memory for each stalled channel and brings no speed.
pub(crate) const WINDOW: u32 = 1 << 20;
/// Bytes of it that a client may send before its channel is taken to the machine.
const FIRST_WINDOW: u32 = 64 << 10;
/// Messages that a channel keeps for its reader: the window full of packets of 128 bytes. A peer that sends smaller ones
/// and is not read from holds up its own connection only.
pub(crate) const CHANNEL_MESSAGES: usize = 8192;

/// Algorithms for both sides: what ssh-audit calls good, and AES-GCM first, which is the fastest on current processors.
pub(crate) fn algorithms() -> Preferred {
    Preferred {
        kex: Cow::Borrowed(&[
            kex::MLKEM768X25519_SHA256,
            kex::CURVE25519,
            kex::CURVE25519_PRE_RFC_8731,
            kex::EXTENSION_SUPPORT_AS_CLIENT,
            kex::EXTENSION_SUPPORT_AS_SERVER,
            kex::EXTENSION_OPENSSH_STRICT_KEX_AS_CLIENT,
            kex::EXTENSION_OPENSSH_STRICT_KEX_AS_SERVER,
        ]),
        cipher: Cow::Borrowed(&[cipher::AES_256_GCM, cipher::AES_128_GCM, cipher::CHACHA20_POLY1305]),
        mac: Cow::Borrowed(&[mac::HMAC_SHA512_ETM, mac::HMAC_SHA256_ETM]),
        compression: Cow::Borrowed(&[compression::NONE]),
        ..Preferred::DEFAULT
    }
}

/// What old client libraries need besides (RFC 4344, RFC 5656, RFC 8268, RFC 6668): nothing with SHA-1 or CBC is among it.
fn older(preferred: Preferred) -> Preferred {
    let more = |kex: &[kex::Name]| [kex, &[kex::ECDH_SHA2_NISTP256, kex::DH_G16_SHA512, kex::DH_G14_SHA256]].concat();
    // What only says that something is supported stays at the end.
    let (methods, marks): (Vec<kex::Name>, Vec<kex::Name>) = preferred.kex.iter().partition(|k| !is_mark(k));
    Preferred {
        kex: [more(&methods), marks].concat().into(),
        cipher: [&preferred.cipher, &[cipher::AES_256_CTR, cipher::AES_128_CTR][..]].concat().into(),
        mac: [&preferred.mac, &[mac::HMAC_SHA512, mac::HMAC_SHA256][..]].concat().into(),
        ..preferred
    }
}

fn is_mark(name: &kex::Name) -> bool {
    [
        kex::EXTENSION_SUPPORT_AS_CLIENT,
        kex::EXTENSION_SUPPORT_AS_SERVER,
        kex::EXTENSION_OPENSSH_STRICT_KEX_AS_CLIENT,
        kex::EXTENSION_OPENSSH_STRICT_KEX_AS_SERVER,
    ]
    .contains(name)
}

/// Lines about clients without a common algorithm in a minute: strangers must not fill a log.
const MOST_TOLD: u32 = 20;

fn is_told(now: Instant) -> bool {
    static TOLD: Mutex<Option<(Instant, u32)>> = Mutex::new(None);
    let mut told = TOLD.lock().unwrap_or_else(PoisonError::into_inner);
    let (since, lines) = told.filter(|(since, _)| now.duration_since(*since) < Duration::from_secs(60)).unwrap_or((now, 0));
    *told = Some((since, lines + 1));
    lines < MOST_TOLD
}

/// Says why a client could not connect, where that is for lack of a common algorithm; none for another reason.
fn nothing_in_common(error: &russh::Error, from: IpAddr, older: bool) -> Option<String> {
    let russh::Error::NoCommonAlgo { kind, theirs, .. } = error else { return None };
    let kind = match kind {
        AlgorithmKind::Kex => "key exchange",
        AlgorithmKind::Key => "host key",
        AlgorithmKind::Cipher => "cipher",
        AlgorithmKind::Compression => "compression",
        AlgorithmKind::Mac => "MAC",
    };
    let theirs: Vec<String> = theirs.iter().take(12).map(|t| printable(t).chars().take(64).collect()).collect();
    let help = if older { "" } else { " The setting older-clients offers more." };
    Some(format!("no common {kind} with {from}, which offers {}.{help}", theirs.join(", ")))
}

/// The gateway's side of the protocol, with the certificates of a machine where it speaks for one.
fn server_config(app: &App, certificates: Vec<russh::keys::Certificate>) -> Arc<Config> {
    let with_older = app.settings().flag(Setting::OlderClients);
    let old_key = with_older.then(|| app.keys.host_for_old_clients().ok()).flatten();
    let keys = app.keys.host().into_iter().chain(old_key).collect();
    Arc::new(Config {
        // Clients of OpenSSH say that they read no more (`eow@openssh.com`) only to servers that call themselves so.
        server_id: SshId::Standard(Cow::Borrowed(concat!("SSH-2.0-OpenSSH_compatible_Aerie_", env!("CARGO_PKG_VERSION")))),
        methods: MethodSet::from(&[MethodKind::PublicKey, MethodKind::KeyboardInteractive][..]),
        // Failures are delayed where they happen; a delay here would also hold up the step from key to code.
        auth_rejection_time: Duration::ZERO,
        auth_rejection_time_initial: Some(Duration::ZERO),
        keys,
        certificates,
        window_size: FIRST_WINDOW,
        maximum_packet_size: 32768,
        channel_buffer_size: CHANNEL_MESSAGES,
        event_buffer_size: 16,
        preferred: if with_older { older(algorithms()) } else { algorithms() },
        max_auth_attempts: 12,
        inactivity_timeout: None,
        keepalive_interval: Some(Duration::from_secs(30)),
        keepalive_max: 4,
        nodelay: true,
        ..Config::default()
    })
}

/// Accepts connections until the service stops.
pub(crate) async fn listen(app: Arc<App>, listener: TcpListener) {
    let waiting = Places::new(MOST_WAITING, MOST_WAITING_FROM_ONE);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = app.stopping.cancelled() => return,
        };
        match accepted {
            Ok((stream, peer)) => {
                let Some(place) = waiting.enter_or_displace(peer.ip().to_canonical()) else { continue };
                // Made for each connection: the host key may have been rotated since the last.
                let config = server_config(&app, vec![]);
                tokio::spawn(attend(app.clone(), config, stream, peer.ip().to_canonical(), place));
            }
            Err(e) => {
                // No file descriptors, most likely: connections must end before another can begin.
                tracing::warn!(error = %e, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

async fn attend(app: Arc<App>, config: Arc<Config>, stream: TcpStream, from: IpAddr, place: Place) {
    let _ = stream.set_nodelay(true);
    let Ok((stream, closer)) = with_closer(stream) else { return };
    let failed = {
        let older = app.settings().flag(Setting::OlderClients);
        move |error: &russh::Error| {
            if let Some(why) = nothing_in_common(error, from, older).filter(|_| is_told(Instant::now())) {
                tracing::warn!("{why}");
            }
        }
    };
    let visitor = Visitor::new(app, from);
    let (signed_in, basis) = (visitor.signed_in(), visitor.basis());
    // A stranger who says nothing must not hold a place: a client names its version at once.
    let running = tokio::select! {
        greeted = tokio::time::timeout(GREETING, russh::server::run_stream(config, stream, visitor)) => match greeted {
            Ok(Ok(running)) => running,
            Ok(Err(e)) => return failed(&e),
            Err(_) => return,
        },
        () = place.given_up.cancelled() => return,
    };
    tokio::pin!(running);
    tokio::select! {
        ended = &mut running => return ended.err().iter().for_each(failed),
        () = signed_in.cancelled() => {}
        () = place.given_up.cancelled() => {
            let _ = closer.shutdown(std::net::Shutdown::Both);
        }
        () = tokio::time::sleep(GRACE) => {
            // Not by the protocol: whoever stalls in the middle of the key exchange would never see it.
            let _ = closer.shutdown(std::net::Shutdown::Both);
        }
    }
    drop(place);
    // A session says why it ends, and shows its person out; what has none is closed at once, and both are before long.
    let signed_out = async {
        let Some(ended) = basis.get().map(|b| b.ended.clone()) else { return std::future::pending().await };
        ended.cancelled().await;
        if basis.get().is_some_and(|b| b.session.load(Ordering::Relaxed)) {
            tokio::time::sleep(FAREWELL).await;
        }
    };
    tokio::select! {
        _ = &mut running => {}
        () = signed_out => {
            let _ = closer.shutdown(std::net::Shutdown::Both);
            let _ = running.await;
        }
    }
}

/// A stream, and a second handle with which it can be closed whatever its reader is doing.
fn with_closer(stream: TcpStream) -> std::io::Result<(TcpStream, std::net::TcpStream)> {
    let stream = stream.into_std()?;
    let closer = stream.try_clone()?;
    Ok((TcpStream::from_std(stream)?, closer))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn old_clients_get_more_and_nothing_that_is_broken() {
        let (usual, more) = (algorithms(), older(algorithms()));
        assert!(usual.cipher.iter().all(|c| more.cipher.contains(c)) && more.cipher.contains(&cipher::AES_128_CTR));
        assert!(!usual.cipher.contains(&cipher::AES_128_CTR), "off by default");
        let names = more
            .kex
            .iter()
            .map(AsRef::<str>::as_ref)
            .chain(more.mac.iter().map(AsRef::as_ref))
            .chain(more.cipher.iter().map(AsRef::as_ref));
        for name in names {
            assert!(!name.contains("sha1") && !name.contains("cbc") && !name.contains("group1-") && !name.contains("md5"), "{name}");
        }
        // Marks are no methods: none stands before one.
        let first_mark = more.kex.iter().position(is_mark).unwrap();
        assert!(more.kex.iter().skip(first_mark).all(is_mark));
    }

    #[test]
    fn strangers_fill_no_log() {
        let (now, later) = (Instant::now(), Instant::now() + Duration::from_secs(61));
        assert_eq!((0..1000).filter(|_| is_told(now)).count(), MOST_TOLD as usize);
        assert!(is_told(later));
    }

    #[test]
    fn a_client_without_a_common_algorithm_is_named_with_what_it_offers() {
        let from = "192.0.2.7".parse().unwrap();
        let error =
            |theirs: &str| russh::Error::NoCommonAlgo { kind: AlgorithmKind::Cipher, ours: vec![], theirs: vec![theirs.into(); 40] };
        let said = nothing_in_common(&error("aes128-cbc"), from, false).unwrap();
        assert!(
            said.starts_with("no common cipher with 192.0.2.7, which offers aes128-cbc, ") && said.ends_with("older-clients offers more."),
            "{said}"
        );
        let long = nothing_in_common(&error(&"\u{1b}[2J".repeat(1000)), from, true).unwrap();
        assert!(long.len() < 2000 && !long.contains('\u{1b}'), "{long}");
        assert_eq!(nothing_in_common(&russh::Error::Disconnect, from, false), None);
    }
}
