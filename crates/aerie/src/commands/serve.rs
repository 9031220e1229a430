//! The service itself, and filling its data directory.

use super::account::secret;
use crate::cli::{Serve, Setup};
use crate::output::Printer;
use crate::{Exit, Failure};
use aerie_core::diagnostic::Severity;
use aerie_core::directory::{Directory, DirectoryFile, validate};
use aerie_core::factor::TotpSecret;
use aerie_core::policy::Network;
use aerie_service::{Config, DataDirectory, Keys, Service, Syslog, hash_password, totp_purpose};
use aerie_store::{Publication, Store};
use jiff::Timestamp;
use tokio::signal::unix::{SignalKind, signal};

/// Shortest password (NIST SP 800-63B section 3.1.1.2 asks for 15 where it stands alone, and 8 beside another factor).
const SHORTEST_PASSWORD: usize = 12;

pub(super) async fn serve(options: &Serve) -> Result<Exit, Failure> {
    let https = options.http.is_none().then_some(options.https);
    let from = options.syslog_from.iter().map(|t| Network::parse(t)).collect::<Result<_, _>>().map_err(Failure::usage)?;
    let syslog = Syslog { tls: options.syslog_tls, plain: options.syslog, from };
    close_umask();
    let (data, address) = (options.data.clone(), options.address.clone());
    let service = Service::start(Config { data, address, https, http: options.http, ssh: options.ssh, syslog }).await?;
    eprintln!("The console is at {}, the SSH gateway at {}. Ctrl-C stops both.", service.address(), service.ssh());
    if let Some(print) = service.tls_authority() {
        eprintln!("The certificate is signed by this service's own authority: {print}");
        eprintln!("`aerie trust --tls` prints its certificate, for browsers and collectors.");
    }
    for at in service.syslog() {
        eprintln!("Logs are taken at {at}.");
    }
    if let Some(link) = service.first_link() {
        eprintln!(
            "\nNobody is here yet. This link makes the first administrator; it is good once, for a day, and is not shown again:\n  {link}\n"
        );
    }
    let (host, authority) = service.host_keys();
    eprintln!(
        "Host key of the gateway: {host}\nFor `ssh -J`, trust in known_hosts, with the names of your machines: @cert-authority MACHINE,… {authority}"
    );
    eprintln!("For the machines, as TrustedUserCAKeys: {}", service.user_authority());
    stop_signal().await?;
    service.stop().await?;
    Ok(Exit::Done)
}

/// What this process writes is for its own user alone.
fn close_umask() {
    use nix::sys::stat::{Mode, umask};
    umask(Mode::from_bits_truncate(0o077));
}

/// Waits for Ctrl-C or SIGTERM.
pub(crate) async fn stop_signal() -> Result<(), Failure> {
    let failed = |e: std::io::Error| Failure::internal(e.to_string());
    let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
    let mut interrupt = signal(SignalKind::interrupt()).map_err(failed)?;
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
    Ok(())
}

pub(super) async fn setup(options: &Setup, printer: Printer) -> Result<Exit, Failure> {
    let read = |path: &std::path::Path| std::fs::read_to_string(path).map_err(|e| Failure::file(path.display(), &e));
    let file: DirectoryFile =
        serde_json::from_str(&read(&options.directory)?).map_err(|e| Failure::usage(format!("{}: {e}", options.directory.display())))?;
    let rules = read(&options.policy)?;
    let directory = Directory::from(file.clone());
    let found = super::rules::diagnose(&rules, &directory);
    if found.iter().any(|d| d.severity == Severity::Error) {
        let shown: Vec<String> = found.iter().map(|d| d.render(&options.policy.display().to_string(), &rules)).collect();
        return Err(Failure { exit: Exit::No, message: format!("the rules have errors\n\n{}", shown.join("\n")) });
    }
    close_umask();
    let _held = DataDirectory::take(&options.data).map_err(|e| Failure::usage(e.to_string()))?;
    let keys = Keys::load(&options.data).map_err(|e| Failure::internal(e.to_string()))?;
    let store = Store::open(&options.data.join("aerie.db")).await?;
    if !store.policies().await?.is_empty() {
        return Err(Failure::usage(format!("{} is not empty: setup fills an empty directory only", options.data.display())));
    }
    validate(&file).map_err(|e| Failure::usage(format!("{}: {e}", options.directory.display())))?;
    store.replace_directory(&file, store.directory_version().await?, "setup", Timestamp::now()).await?;
    for name in &options.credentials_for {
        let person =
            directory.person(name).ok_or_else(|| Failure::usage(format!("{} names nobody called {name}", options.directory.display())))?;
        let password = secret(&format!("Password for {}: ", person.shown()))?;
        if password.chars().count() < SHORTEST_PASSWORD {
            return Err(Failure::usage(format!("the password of {name} is shorter than {SHORTEST_PASSWORD} characters")));
        }
        let totp = enrol(&store, &keys, name, &password, random()?).await?;
        printer.line(&format!("{name}: put this secret into an authenticator app, it is shown once: {}", totp.to_base32()));
    }
    store.publish_policy(Publication { text: &rules, by: "setup", ..Publication::default() }, Timestamp::now()).await?;
    store.close().await;
    printer.remark(&format!("{} is ready: run `aerie serve --data {}`.", options.data.display(), options.data.display()));
    Ok(Exit::Done)
}

fn random() -> Result<[u8; 20], Failure> {
    let mut bytes = [0; 20];
    getrandom::fill(&mut bytes).map_err(|e| Failure::internal(e.to_string()))?;
    Ok(bytes)
}

/// Sets somebody's password and code.
pub(crate) async fn enrol(store: &Store, keys: &Keys, person: &str, password: &str, secret: [u8; 20]) -> Result<TotpSecret, Failure> {
    store.set_password(person, Some(&hash_password(password).map_err(Failure::internal)?), Timestamp::now()).await?;
    let secret = TotpSecret::from_bytes(secret);
    let sealed = keys.seal(secret.expose(), &totp_purpose(person)).map_err(|e| Failure::internal(e.to_string()))?;
    store.set_totp(person, Some(&sealed), 0).await?;
    Ok(secret)
}
