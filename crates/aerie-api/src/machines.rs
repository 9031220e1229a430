//! Machines: the list, agents and codes, checks, credentials.

use aerie_core::directory::Way;
use aerie_core::inventory::MachineFacts;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A machine in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachineView {
    /// Name.
    pub name: String,
    /// Where its SSH server listens.
    pub address: String,
    /// `direct`, `agent` or `relay`.
    pub via: String,
    /// Site.
    pub site: String,
    /// Who looks after it.
    pub owner: String,
    /// Labels.
    pub labels: Vec<String>,
    /// Accounts.
    pub accounts: Vec<String>,
    /// `online`, `offline`, `code issued`, `no agent` or `incomplete`.
    pub state: String,
    /// What it is for.
    pub note: String,
    /// Sessions that are live on it.
    pub live: u64,
    /// When something was last heard of it.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Timestamp>,
    /// Host name, as its agent says.
    pub host: String,
    /// Operating system, as its agent says.
    pub system: String,
    /// Who is logged in, as its agent says.
    pub users: Vec<String>,
    /// Whether it is one of the caller's favourites.
    pub favourite: bool,
    /// Whether the caller was on it lately.
    pub recent: bool,
    /// Whether it shows another host key than the pinned one.
    pub other_host_key: bool,
}

/// Which machines to list.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MachineQuery {
    /// A few letters of anything: name, address, site, owner, label, note, account, and what agents say of host, addresses,
    /// system and who is logged in. Several words must all be there.
    pub q: Option<String>,
    /// Only those in this state.
    pub state: Option<String>,
    /// Only those of this site.
    pub site: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows, 50 unless said otherwise, at most 500.
    pub limit: Option<u32>,
}

/// A page of machines.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachinePage {
    /// How things stand, in a sentence.
    pub sentence: String,
    /// The machines: favourites and recent ones first.
    pub machines: Vec<MachineView>,
    /// How many match.
    pub total: u64,
    /// For the next page.
    pub next: Option<String>,
    /// Sites that there are.
    pub sites: Vec<String>,
}

/// A way into a machine besides SSH.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WayView {
    /// Name.
    pub name: String,
    /// `desktop`, `web` or `tcp`.
    pub kind: String,
    /// `host:port`.
    pub address: String,
}

impl From<&Way> for WayView {
    fn from(w: &Way) -> Self {
        Self { name: w.name.clone(), kind: w.kind.word().into(), address: w.address.clone() }
    }
}

/// An agent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AgentView {
    /// `online` or `offline`.
    pub state: String,
    /// Since when it is connected.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// When it was last heard of.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Timestamp>,
    /// Address that it came from.
    pub last_from: String,
    /// Version of its program.
    pub version: String,
    /// Its public key.
    pub key: String,
    /// When it was enrolled.
    #[schema(value_type = String, format = DateTime)]
    pub enrolled: Timestamp,
    /// Who issued the code.
    pub enrolled_by: String,
    /// Whether it goes away with its terminal.
    pub temporary: bool,
    /// How far its clock is ahead, in seconds.
    pub clock_ahead_s: i64,
    /// What it may reach for other machines of its site.
    pub relay: Vec<String>,
}

/// A host key that was shown instead of the pinned one.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OtherHostKeyView {
    /// `SHA256:…`.
    pub fingerprint: String,
    /// When it was first shown.
    #[schema(value_type = String, format = DateTime)]
    pub first: Timestamp,
    /// When it was last shown.
    #[schema(value_type = String, format = DateTime)]
    pub last: Timestamp,
}

/// A machine with everything that is known.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachineDetail {
    /// As in the list.
    pub machine: MachineView,
    /// How things stand with it, in a sentence.
    pub sentence: String,
    /// Ways in besides SSH.
    pub ways: Vec<WayView>,
    /// Groups that it was put into by hand.
    pub groups: Vec<String>,
    /// Its good order, as is known: words.
    pub posture: Vec<String>,
    /// Fingerprint of the pinned host key.
    pub host_key: Option<String>,
    /// Another one that it showed, and that blocks it.
    pub other_host_key: Option<OtherHostKeyView>,
    /// What its agent says.
    #[schema(value_type = Option<Object>)]
    pub facts: Option<MachineFacts>,
    /// Its agent.
    pub agent: Option<AgentView>,
    /// What came of its last check.
    pub check: Option<MachineCheckView>,
    /// Accounts and keys that were found on it.
    pub found: Vec<FoundAccountView>,
    /// Credentials that are kept for it.
    pub credentials: Vec<CredentialView>,
    /// What the caller may do with it beyond reading: `manage`.
    pub may: Vec<String>,
}

/// What is to be known of a machine. What is left out stays as it is.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachineChange {
    /// `host:port` of its SSH server; empty for 127.0.0.1:22 of a machine with an agent.
    pub address: Option<String>,
    /// `direct`, `agent` or `relay`.
    pub via: Option<String>,
    /// Site.
    pub site: Option<String>,
    /// Owner.
    pub owner: Option<String>,
    /// Labels, in place of those before.
    pub labels: Option<Vec<String>>,
    /// Groups, in place of those before.
    pub groups: Option<Vec<String>>,
    /// Accounts that may be used, in place of those before.
    pub accounts: Option<Vec<String>>,
    /// Ways in besides SSH, in place of those before.
    pub ways: Option<Vec<WayView>>,
    /// What it is for.
    pub note: Option<String>,
}

/// A machine to be registered.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct NewMachine {
    /// Name.
    pub name: String,
    /// The rest.
    #[serde(default)]
    pub about: MachineChange,
}

/// Why something is done.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reason {
    /// In a few words; it goes into the log.
    pub why: String,
}

/// A machine that left the list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RetiredView {
    /// Name.
    pub name: String,
    /// Site.
    pub site: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

/// An enrolment code to be made: for one machine, or for any of a site.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCode {
    /// The machine.
    pub machine: Option<String>,
    /// Or the site.
    pub site: Option<String>,
    /// How many machines of the site; 1 unless said otherwise.
    pub uses: Option<u32>,
    /// How long it is good; the setting `code-hours` unless said otherwise.
    pub hours: Option<u32>,
    /// Labels for machines that come with it.
    #[serde(default)]
    pub labels: Vec<String>,
}

/// A code, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CodeView {
    /// Identifier.
    pub id: String,
    /// For this machine.
    pub machine: Option<String>,
    /// For any of this site.
    pub site: String,
    /// Labels for machines that come with it.
    pub labels: Vec<String>,
    /// How often it is still good.
    pub uses_left: u32,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// By whom.
    pub made_by: String,
    /// When it ends.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// A code that was made. It is shown once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedCode {
    /// The code: it says for whom it is and where the service is, and carries the fingerprint of the service's key.
    pub code: String,
    /// About it.
    pub about: CodeView,
    /// What to do with it, in lines.
    pub steps: Vec<String>,
}

/// What an agent may reach for other machines of its site: entries of an allow-list, as `10.20.0.0/16:22`.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RelayEntries {
    /// Entries; none for nothing.
    pub entries: Vec<String>,
}

/// For how long agents are taken back whose state a restored backup does not know.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptAgents {
    /// Minutes, 1 to 60; nought ends it.
    pub minutes: u32,
    /// Why.
    pub why: String,
}

/// What the SSH server of a machine must be told, so that Aerie's certificates let in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TrustView {
    /// The authorities, a line each, newest first.
    pub authorities: Vec<String>,
    /// Commands for a shell on the machine, as root.
    pub script: String,
}

/// The host key of a machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HostKeyView {
    /// Fingerprint of the pinned one.
    pub pinned: Option<String>,
    /// Fingerprint of the one that it shows now.
    pub shown: String,
    /// Both in a sentence.
    pub sentence: String,
}

/// A host key to be pinned.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptHostKey {
    /// Its fingerprint, compared at the machine: it must be the one that the machine shows now.
    pub fingerprint: String,
    /// Why it is right.
    pub why: String,
}

/// One check.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckView {
    /// Stable word.
    pub check: String,
    /// What must hold.
    pub title: String,
    /// `pass`, `warn`, `fail` or `skip`.
    pub outcome: String,
    /// What was seen.
    pub seen: String,
    /// How to mend it.
    pub mend: String,
}

impl From<&aerie_core::inventory::CheckResult> for CheckView {
    fn from(r: &aerie_core::inventory::CheckResult) -> Self {
        Self {
            check: r.check.word().into(),
            title: r.check.title().into(),
            outcome: r.outcome.word().into(),
            seen: r.seen.clone(),
            mend: r.mend.clone(),
        }
    }
}

/// What came of the checks of a machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MachineCheckView {
    /// Machine.
    pub machine: String,
    /// In a sentence.
    pub sentence: String,
    /// Whether nothing failed.
    pub ready: bool,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Each check.
    pub results: Vec<CheckView>,
}

/// A line of the stream of a check: first each step as it comes, then the whole.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CheckLine {
    /// One check came to its end.
    Step {
        /// Machine.
        machine: String,
        /// What came of it.
        result: CheckView,
    },
    /// Everything of a machine was checked.
    Done(MachineCheckView),
    /// It could not be checked.
    Failed {
        /// Machine.
        machine: String,
        /// Why.
        why: String,
    },
}

/// Which machines to check.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckMany {
    /// Selector of machines; all where it is left out.
    pub machines: Option<String>,
}

/// An account that was found on a machine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundAccountView {
    /// Name.
    pub account: String,
    /// User number.
    pub number: u32,
    /// Shell.
    pub shell: String,
    /// Whether somebody could sign in to it: it has a shell, or a key.
    pub login: bool,
    /// Whether Aerie's list of accounts names it.
    pub listed: bool,
    /// Keys that let somebody in.
    pub keys: Vec<FoundKeyView>,
}

/// An authorised key that was found.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FoundKeyView {
    /// `SHA256:…`.
    pub fingerprint: String,
    /// `ssh-ed25519`.
    pub kind: String,
    /// What is written behind it.
    pub comment: String,
    /// Whose it is: a person, or `vault`; none for a key that nobody owns.
    pub owner: Option<String>,
}

/// A credential that is kept for an account: never the credential itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CredentialView {
    /// Machine.
    pub machine: String,
    /// Account on it.
    pub account: String,
    /// `password` or `key`.
    pub kind: String,
    /// `settled`, or how far a change has come: `prepared` or `verified`.
    pub phase: String,
    /// Account that changes a password; empty for the account itself.
    pub changer: String,
    /// Changed after each use.
    pub after_use: bool,
    /// Changed every so many days; 0 for never.
    pub days: u32,
    /// When it was last changed, or put in.
    #[schema(value_type = String, format = DateTime)]
    pub changed: Timestamp,
    /// When it was last used or seen.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Timestamp>,
    /// When changing it last failed.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub failed: Option<Timestamp>,
    /// Why.
    pub failure: String,
    /// How it stands, in a sentence.
    pub sentence: String,
}

/// A credential to be kept.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCredential {
    /// `password` or `key`.
    pub kind: String,
    /// The password, or the private key in OpenSSH's format; left out where only the rest is to change.
    pub secret: Option<String>,
    /// Account that changes a password.
    #[serde(default)]
    pub changer: String,
    /// Change it after each use.
    #[serde(default)]
    pub after_use: bool,
    /// Change it every so many days.
    #[serde(default)]
    pub days: u32,
}

impl std::fmt::Debug for NewCredential {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NewCredential").field("kind", &self.kind).finish_non_exhaustive()
    }
}

/// Why somebody must see a credential.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckOutNote {
    /// Reason: it goes into the log.
    pub reason: String,
    /// Ticket, where the rules ask for one.
    #[serde(default)]
    pub ticket: Option<String>,
}

/// A credential that was checked out. It is shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct CheckedOut {
    /// `password` or `key`.
    pub kind: String,
    /// The credential.
    pub secret: String,
    /// What becomes of it.
    pub sentence: String,
}

impl std::fmt::Debug for CheckedOut {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("CheckedOut")
    }
}

/// What came of a change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RotatedView {
    /// `changed`, `unchanged`, `later` or `stuck`.
    pub ended: String,
    /// In a sentence.
    pub sentence: String,
}

/// A line of the history of a credential.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CredentialEvent {
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Who.
    pub by: String,
    /// What was done.
    pub what: String,
}

/// Which port to forward.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ForwardQuery {
    /// Name of the way.
    #[serde(default)]
    pub way: String,
    /// Reason, where the rules ask for one.
    pub reason: Option<String>,
    /// Ticket, where the rules ask for one.
    pub ticket: Option<String>,
}
