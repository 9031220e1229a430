//! People, how they sign in, tokens, PINs, settings and keys of the service.

use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// For which people and machines a role counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScopeView {
    /// Selector of people.
    pub people: String,
    /// Selector of machines.
    pub machines: String,
}

/// A person in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// Name.
    pub name: String,
    /// Name as people write it.
    pub full_name: String,
    /// Home organisation.
    pub organisation: String,
    /// Groups that were given to them.
    pub groups: Vec<String>,
    /// Roles in Aerie.
    pub roles: Vec<String>,
    /// `good`, `suspended`, `not before …` or `ended …`.
    pub standing: String,
    /// Words of the factors that they have enrolled.
    pub factors: Vec<String>,
    /// Registered SSH keys.
    pub keys: u32,
}

/// Which people to list.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PeopleQuery {
    /// A few letters of name, full name, organisation or group.
    pub q: Option<String>,
    /// Only those with this role.
    pub role: Option<String>,
    /// Only those in this group.
    pub group: Option<String>,
    /// Only accounts that are `good`, or `not-good`.
    pub standing: Option<String>,
    /// `next` of the page before.
    pub after: Option<String>,
    /// Rows, 50 unless said otherwise, at most 500.
    pub limit: Option<u32>,
}

/// A person with everything that is known.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PersonDetail {
    /// As in the list.
    pub person: PersonView,
    /// How things stand with them, in a sentence.
    pub sentence: String,
    /// For which people and machines their roles count; a role that is not here counts for all.
    pub scopes: BTreeMap<String, ScopeView>,
    /// Groups that they belong to by whatever way.
    pub all_groups: Vec<String>,
    /// First day of the account.
    #[schema(value_type = Option<String>, format = Date)]
    pub valid_from: Option<Date>,
    /// Last day of the account.
    #[schema(value_type = Option<String>, format = Date)]
    pub valid_until: Option<Date>,
    /// Whether the account is suspended.
    pub suspended: bool,
    /// Until when an invitation is open.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub invited_until: Option<Timestamp>,
    /// Passkeys and security keys.
    pub passkeys: Vec<PasskeyView>,
    /// SSH keys.
    pub ssh_keys: Vec<SshKeyView>,
    /// Recovery codes that are left.
    pub recovery_codes: u32,
    /// Where they are signed in.
    pub devices: Vec<DeviceView>,
    /// API tokens.
    pub tokens: Vec<TokenView>,
    /// Machines that the rules let them reach, now or at other times.
    pub reach: u32,
    /// The ETag of the directory, for a change.
    pub version: u64,
}

/// Somebody new.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPerson {
    /// Name: small letters, digits, `-`, `_`, `.`.
    pub name: String,
    /// What else is known.
    #[serde(flatten)]
    pub with: PersonChange,
    /// Whether to make an invitation at once.
    #[serde(default)]
    pub invite: bool,
}

/// What to change of somebody; what is missing stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct PersonChange {
    /// Name as people write it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub full_name: Option<String>,
    /// Mail address for notices; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// Home organisation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub organisation: Option<String>,
    /// Groups, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
    /// Roles, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub roles: Option<Vec<String>>,
    /// Scopes of roles, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scopes: Option<BTreeMap<String, ScopeView>>,
    /// Whether the account is suspended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suspended: Option<bool>,
    /// First day: `2026-11-23`, or empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub valid_from: Option<String>,
    /// Last day: `2026-11-23`, or empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub valid_until: Option<String>,
}

/// An invitation: the link is shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    /// For whom.
    pub person: String,
    /// To be handed to them; empty where it was mailed to them, or waits for a second administrator.
    pub link: String,
    /// Whether it was mailed to their own address.
    #[serde(default)]
    pub mailed: bool,
    /// The proposal to which a second administrator must agree first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proposal: Option<ProposalView>,
    /// Until when it is good.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// What one administrator proposed and a second must agree to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProposalView {
    /// Identifier.
    pub id: String,
    /// `setting`, `invitation` or `host-key`.
    pub kind: String,
    /// The setting, person or machine.
    pub subject: String,
    /// What is proposed.
    pub sentence: String,
    /// Who proposed it.
    pub by: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Until when it can be agreed to.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// A proposal that was agreed to, and done.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct AgreedView {
    /// The proposal.
    pub proposal: ProposalView,
    /// The link of an invitation, to be handed to the person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<InvitationView>,
}

/// What an open invitation says to whoever has its link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InvitationFacts {
    /// For whom; empty where the first administrator chooses a name.
    pub person: String,
    /// Their name as people write it.
    pub full_name: String,
    /// Who invites, as people write it.
    pub by: String,
    /// Until when.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
    /// Shortest password that may be set.
    pub password_length: u32,
}

/// The secret of an invitation.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct InvitationSecret {
    /// From the link.
    pub secret: String,
}

/// Taking an invitation.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct InvitationTaken {
    /// From the link.
    pub secret: String,
    /// Password to be set.
    pub password: String,
    /// Name, where the first administrator chooses one.
    #[serde(default)]
    pub person: Option<String>,
    /// Name as people write it, likewise.
    #[serde(default)]
    pub full_name: Option<String>,
    /// Ask for a token in the answer instead of a cookie.
    #[serde(default)]
    pub token: bool,
}

/// A passkey or security key.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PasskeyView {
    /// Names it in calls.
    pub id: String,
    /// `passkey` or `security-key`.
    pub kind: String,
    /// What its owner calls it.
    pub label: String,
    /// Whether it cannot leave its device.
    pub bound: bool,
    /// When it was enrolled.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// When it was last used.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_used: Option<Timestamp>,
    /// From where.
    pub last_from: Option<String>,
}

/// A registered SSH key.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SshKeyView {
    /// `SHA256:…`
    pub fingerprint: String,
    /// What its owner calls it.
    pub label: String,
    /// `ssh-ed25519`, `sk-ssh-ed25519@openssh.com` …; empty where only the fingerprint is known.
    pub kind: String,
    /// Whether it sits on a FIDO authenticator.
    pub hardware: bool,
    /// When it was registered.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub added: Option<Timestamp>,
    /// Last day on which it is good.
    #[schema(value_type = Option<String>, format = Date)]
    pub expires: Option<Date>,
    /// When it was last used.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_used: Option<Timestamp>,
    /// From where.
    pub last_from: Option<String>,
    /// Why it should be removed, where it should.
    pub remove_because: Option<String>,
}

/// Where somebody is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeviceView {
    /// Names it in calls.
    pub id: String,
    /// `console` or `client`.
    pub kind: String,
    /// What signed in, as far as it says.
    pub name: String,
    /// Whether it is the one that asks.
    pub this: bool,
    /// Words of the factors that were proved.
    pub factors: Vec<String>,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// Last request.
    #[schema(value_type = String, format = DateTime)]
    pub last_used: Timestamp,
    /// From where.
    pub last_from: String,
    /// Until when, if nothing is asked.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// An API token, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    /// Names it in calls.
    pub id: String,
    /// What its owner calls it.
    pub name: String,
    /// What it may be used for; empty for everything that its owner may.
    pub scopes: Vec<String>,
    /// Fingerprint of the key that must sign each request.
    pub key: Option<String>,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Until when it is good.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
    /// When it was last used; when it was made, where it never was.
    #[schema(value_type = String, format = DateTime)]
    pub last_used: Timestamp,
    /// From where.
    pub last_from: String,
}

/// A new API token.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewApiToken {
    /// What to call it.
    pub name: String,
    /// What it may be used for: `read`, `rules`, `people`, `sessions`, `audit`, `pins`, `service`.
    pub scopes: Vec<String>,
    /// Days that it is good.
    pub days: u32,
    /// An Ed25519 public key as OpenSSH writes it, whose owner must sign each request (RFC 9421).
    #[serde(default)]
    pub key: Option<String>,
}

/// A new API token with its secret, which is shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedToken {
    /// The secret.
    pub secret: String,
    /// What it is.
    pub token: TokenView,
}

/// How somebody signs in: their own account.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AccountView {
    /// Who, with everything that is known.
    pub detail: PersonDetail,
    /// Whether a password is set.
    pub password: bool,
    /// When it was set.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub password_set: Option<Timestamp>,
    /// Whether codes are enrolled.
    pub code: bool,
    /// What is to be done next, in a sentence; empty where nothing is.
    pub advice: String,
    /// Whether a second factor must be enrolled before anything else.
    pub must_enrol: bool,
    /// Whether a factor was proved so lately that the account can be changed.
    pub fresh: bool,
}

/// A new password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct PasswordChange {
    /// The one so far; not needed where a factor was proved lately.
    #[serde(default)]
    pub current: Option<String>,
    /// The new one.
    pub new: String,
}

/// A secret for an authenticator app, shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct CodeOffer {
    /// Base32.
    pub secret: String,
    /// `otpauth://…`
    pub uri: String,
    /// The same as a square of modules: rows of `0` and `1`.
    pub qr: Vec<String>,
}

/// The first code of an offered secret.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct CodeProof {
    /// Base32, as it was offered.
    pub secret: String,
    /// The code that the app shows.
    pub code: String,
}

/// Codes that are shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownCodes {
    /// The codes.
    pub codes: Vec<String>,
    /// Until when, of a temporary one.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub expires: Option<Timestamp>,
}

/// What kind of authenticator to ask for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorKind {
    /// `passkey` or `security-key`.
    pub kind: String,
}

/// A question for an authenticator (WebAuthn).
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorQuestion {
    /// To be given back with the answer.
    pub challenge: String,
    /// `publicKey` of `navigator.credentials`, binary values in base64url.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub options: serde_json::Value,
}

/// An authenticator's answer when it is enrolled.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorEnrolment {
    /// Of the question.
    pub challenge: String,
    /// What `navigator.credentials.create` gave, binary values in base64url.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub credential: serde_json::Value,
    /// What to call it.
    pub label: String,
}

/// An authenticator's answer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AuthenticatorAnswer {
    /// Of the question.
    pub challenge: String,
    /// What `navigator.credentials.get` gave, binary values in base64url.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub credential: serde_json::Value,
    /// Ask for a token in the answer instead of a cookie.
    #[serde(default)]
    pub token: bool,
}

/// A code, to prove oneself again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct GivenCode {
    /// A code of the app, a recovery code or a temporary one.
    pub code: String,
}

/// Another name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Label {
    /// The name.
    pub label: String,
}

/// What an SSH key must sign to be registered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KeyQuestion {
    /// The text.
    pub text: String,
    /// The namespace of the signature.
    pub namespace: String,
    /// A command that signs it.
    pub command: String,
}

/// An SSH key to be registered.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSshKey {
    /// As OpenSSH writes it.
    pub public: String,
    /// What to call it.
    pub label: String,
    /// Last day: `2026-11-23`.
    #[serde(default)]
    pub expires: Option<String>,
    /// The text of the question.
    pub text: String,
    /// `-----BEGIN SSH SIGNATURE-----` …
    pub signature: String,
}

/// A PIN in a list, without its digits.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PinView {
    /// Names it in calls.
    pub id: String,
    /// The machine that it stands for; none of a one-time one.
    pub machine: Option<String>,
    /// For what or whom.
    pub note: String,
    /// Who issued it.
    pub issued_by: String,
    /// `open`, `used`, `tried out` or `over`.
    pub state: String,
    /// Wrong tries that are left.
    pub tries_left: u32,
    /// When it was made.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// When it ends; none of a standing one.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub ends: Option<Timestamp>,
}

/// A PIN to be issued.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPin {
    /// For what or whom.
    #[serde(default)]
    pub note: String,
}

/// A PIN with its digits, which are shown once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct IssuedPin {
    /// The digits.
    pub pin: String,
    /// The page where it is typed, for a one-time one.
    pub link: Option<String>,
    /// What it is.
    pub about: PinView,
}

/// A PIN that somebody typed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct GivenPin {
    /// The digits.
    pub pin: String,
    /// Of the link that was opened, if one was.
    #[serde(default)]
    pub visit: Option<String>,
}

/// What a right PIN leads to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PinTaken {
    /// Who issued it, as people write it.
    pub by: String,
    /// Their organisation.
    pub organisation: String,
    /// For what.
    pub note: String,
    /// The way on, where the PIN is one of a visit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pass: Option<crate::VisitPass>,
}

/// A setting.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SettingView {
    /// Its word.
    pub name: String,
    /// What it is.
    pub about: String,
    /// `number`, `flag`, `text` or `lines`.
    pub kind: String,
    /// What a number counts, and its bounds.
    pub bounds: Option<String>,
    /// Value in force.
    pub value: String,
    /// The proposal to which a second administrator must agree before another value counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proposal: Option<ProposalView>,
    /// Value while nobody sets it.
    pub default: String,
}

/// A value for a setting.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SettingValue {
    /// The value.
    pub value: String,
    /// Why.
    pub why: String,
}

/// A change of a setting.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SettingChangeView {
    /// The setting.
    pub name: String,
    /// Value before.
    pub before: String,
    /// Value after.
    pub after: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// Who.
    pub by: String,
    /// Why.
    pub why: String,
}

/// A key of the service, never the key itself.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ServiceKeyView {
    /// What it is for.
    pub purpose: String,
    /// What it does, and what becomes of earlier ones.
    pub about: String,
    /// Counts from 1.
    pub generation: u32,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub made: Timestamp,
    /// Whether it is in use; earlier ones still verify.
    pub in_use: bool,
    /// What others must know of it.
    pub public: String,
}

/// Why a key is rotated.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rotation {
    /// `master`, or the purpose of a key.
    pub purpose: String,
    /// Why.
    pub why: String,
}

/// What strangers see before they sign in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Welcome {
    /// The banner; empty for none.
    pub banner: String,
    /// Whether passkeys work at the address at which the console is.
    pub passkeys: bool,
    /// Whether nobody is there yet: the first administrator comes with the link that was printed.
    pub empty: bool,
}

/// A sign-in at the gateway that waits for a passkey.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConfirmationFacts {
    /// Who signs in, as people write it.
    pub person: String,
    /// To which machine.
    pub machine: String,
    /// From which address.
    pub from: String,
    /// `passkey` or `security-key`.
    pub kind: String,
    /// Until when the terminal waits.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// The answer to it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Confirmation {
    /// The two digits that the terminal shows.
    pub number: u8,
    /// Of the question.
    pub challenge: String,
    /// What `navigator.credentials.get` gave, binary values in base64url.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub credential: serde_json::Value,
}
