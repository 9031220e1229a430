//! The keys and certificates that people show at the gateway.

use super::visitor::Visitor;
use crate::keys::fingerprint;
use aerie_core::directory::{Role, Standing};
use aerie_core::policy::{Factor, Factors};
use aerie_core::settings::Setting;
use jiff::Timestamp;
use russh::keys::ssh_key::certificate::CertType;
use russh::keys::{Certificate, HashAlg, PublicKey};
use std::net::IpAddr;

/// Flags of a FIDO key's signature (WebAuthn level 3 section 6.1): touched, and unlocked by a PIN or finger.
const PRESENT: u8 = 1;
const VERIFIED: u8 = 4;

/// An authority whose user certificates are accepted, and for whom.
pub(crate) struct UserAuthority {
    groups: Vec<String>,
    key: PublicKey,
}

impl UserAuthority {
    /// Reads a line of the setting: groups, separated by commas, and a public key as OpenSSH writes it. One without groups is none.
    pub(crate) fn parse(line: &str) -> Option<Self> {
        let (groups, key) = line.trim().split_once(' ')?;
        let key = PublicKey::from_openssh(key.trim()).ok()?;
        let groups: Vec<String> = groups.split(',').map(Into::into).collect();
        let named = groups.iter().all(|g| !g.is_empty() && !g.contains("ssh-") && !g.contains("ecdsa-"));
        named.then_some(Self { groups, key })
    }
}

impl Visitor {
    /// Whether the key belongs to the person named, is good, and their account is. Gives its fingerprint.
    pub(super) fn knows(&mut self, user: &str, key: &PublicKey) -> Option<String> {
        if !self.same_user(user) {
            self.fail("the login name was changed");
            return None;
        }
        let login = self.login.as_ref()?;
        let rules = self.app.rules.now();
        let print = fingerprint(key);
        let day = Timestamp::now().to_zoned(rules.policy.zone().clone()).date();
        let Some(owner) = rules.policy.directory().owner_of_key(&print).filter(|p| p.name == login.person) else {
            self.fail(format!("the key {print} is not registered for that person, or somebody else has it too"));
            return None;
        };
        // What was registered long ago is held against what counts today.
        if let Err(fault) = crate::api::examine(&self.app, key) {
            self.fail(format!("the key {print} is no longer taken: {fault}"));
            return None;
        }
        if !owner.keys.iter().any(|k| k.fingerprint == print && k.is_good(day)) {
            self.fail(format!("the last day of the key {print} is over"));
            return None;
        }
        self.account_is_good(owner.standing(day)).then_some(print)
    }

    fn account_is_good(&mut self, standing: Standing) -> bool {
        if standing != Standing::Good {
            self.fail(format!("the account is not good ({standing:?})"));
        }
        standing == Standing::Good
    }

    /// What a signature proves, by its flags where the key is on a FIDO authenticator: it must at least have been touched.
    pub(super) fn proved_by(&mut self, sk_flags: Option<u8>) -> Option<Factors> {
        match sk_flags {
            None => Some(Factors::of([Factor::Key])),
            Some(flags) if flags & PRESENT == 0 => {
                self.fail("the FIDO key was not touched");
                None
            }
            Some(flags) => {
                let verified = (flags & VERIFIED != 0).then_some(Factor::Passkey);
                Some(Factors::of([Factor::Key, Factor::SecurityKey].into_iter().chain(verified)))
            }
        }
    }

    /// Whether certificates of any authority are taken.
    pub(super) fn takes_certificates(&self) -> bool {
        self.app.settings().lines(Setting::UserAuthorities).next().is_some()
    }

    /// Whether a user certificate is one that is taken for the person named: signed by a trusted authority, for their name, good
    /// now and from here. The engine has checked that its key signed. Gives the fingerprint of the key.
    pub(super) fn accepts(&mut self, user: &str, certificate: &Certificate) -> Option<String> {
        if !self.same_user(user) {
            self.fail("the login name was changed");
            return None;
        }
        let login = self.login.clone()?;
        let (settings, rules) = (self.app.settings(), self.app.rules.now());
        let directory = rules.policy.directory();
        let person = directory.person(&login.person);
        let groups = directory.groups_of(&login.person);
        // Whoever can change what others may do signs in with what Aerie knows of them, and not by somebody else's word.
        let plain = person.is_some_and(|p| p.roles.iter().all(|r| *r == Role::Technician));
        let vouches = |a: &UserAuthority| a.groups.iter().any(|g| groups.contains(&g.as_str()));
        let trusted = settings.lines(Setting::UserAuthorities).filter_map(UserAuthority::parse).filter(vouches);
        let trusted: Vec<_> = trusted.map(|a| a.key.fingerprint(HashAlg::Sha256)).collect();
        let now = Timestamp::now();
        let seconds = u64::try_from(now.as_second()).unwrap_or(0);
        // An empty list of principals would stand for everybody: never.
        let named = certificate.valid_principals().contains(&login.person);
        let fault = match () {
            () if certificate.cert_type() != CertType::User => Some("it is no user certificate"),
            () if certificate.validate_at(seconds, &trusted).is_err() => {
                Some("its authority is not trusted for that person's groups, or it is not good now")
            }
            () if !named => Some("it is not for that person"),
            () if !plain => Some("an authority vouches for nobody with a role beside technician"),
            () if !options_hold(certificate, self.from) => Some("it has options that are not known or do not hold here"),
            () => None,
        };
        let key = PublicKey::new(certificate.public_key().clone(), "");
        let fault = fault.map(Into::into).or_else(|| crate::api::examine(&self.app, &key).err().map(|e| e.to_string()));
        if let Some(fault) = fault {
            self.fail(format!("the certificate `{}` is not taken: {fault}", aerie_core::diagnostic::printable(certificate.key_id())));
            return None;
        }
        let day = now.to_zoned(rules.policy.zone().clone()).date();
        let standing = person?.standing(day);
        self.account_is_good(standing).then(|| format!("{} (certificate {})", fingerprint(&key), certificate.key_id()))
    }
}

/// Whether every critical option of a certificate is known and holds: of those that OpenSSH defines, only the source address
/// can be kept here; a forced command cannot.
fn options_hold(certificate: &Certificate, from: IpAddr) -> bool {
    certificate.critical_options().iter().all(|(name, value)| {
        name == "source-address" && value.split(',').any(|n| aerie_core::policy::Network::parse(n.trim()).is_ok_and(|n| n.contains(from)))
    })
}
