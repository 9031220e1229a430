//! Calls about people, how they sign in, tokens, PINs, settings and keys.

use crate::{Client, Result};
use aerie_api::{
    AccountView, AgreedView, AuthenticatorQuestion, CodeOffer, CodeProof, GivenCode, GivenPin, InvitationFacts, InvitationSecret,
    InvitationTaken, InvitationView, IssuedPin, IssuedToken, KeyQuestion, Me, NewApiToken, NewPerson, NewPin, NewSshKey, Page,
    PasswordChange, PeopleQuery, PersonChange, PersonDetail, PersonView, PinTaken, PinView, ProposalView, Rotation, ServiceKeyView,
    SettingChangeView, SettingValue, SettingView, ShownCodes, SshKeyView,
};
use reqwest::Method;

/// A name within a path: anything that is not part of one is left out, so that it names nothing else.
pub(crate) fn name(text: &str) -> String {
    let plain: String = text.chars().filter(|c| c.is_ascii_alphanumeric() || "-_.".contains(*c)).take(64).collect();
    if plain.chars().all(|c| c == '.') { String::from("-") } else { plain }
}

/// A fingerprint within a path.
fn print(text: &str) -> String {
    let bare = text.strip_prefix("SHA256:").unwrap_or(text);
    name(&bare.replace('+', "-").replace('/', "_"))
}

/// A factor within a path: a word, or the hexadecimal identifier of a passkey, which may be long.
fn factor_name(text: &str) -> String {
    text.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').take(2048).collect()
}

impl Client {
    /// People, found by a few letters.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn people(&self, query: &PeopleQuery) -> Result<Page<PersonView>> {
        self.ask(self.call(Method::GET, "people").query(query)).await
    }

    /// Everything that is known of somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn person(&self, who: &str) -> Result<PersonDetail> {
        self.ask(self.call(Method::GET, &format!("people/{}", name(who)))).await
    }

    /// Adds somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn add_person(&self, new: &NewPerson) -> Result<PersonDetail> {
        self.ask(self.call(Method::POST, "people").json(new)).await
    }

    /// Changes somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn change_person(&self, who: &str, change: &PersonChange) -> Result<PersonDetail> {
        self.ask(self.call(Method::PATCH, &format!("people/{}", name(who))).json(change)).await
    }

    /// Removes somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_person(&self, who: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("people/{}", name(who)))).await.map(drop)
    }

    /// Invites somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn invite(&self, who: &str) -> Result<InvitationView> {
        self.ask(self.call(Method::POST, &format!("people/{}/invitation", name(who)))).await
    }

    /// Gives somebody a temporary code.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn give_temporary_code(&self, who: &str) -> Result<ShownCodes> {
        self.ask(self.call(Method::POST, &format!("people/{}/temporary-code", name(who)))).await
    }

    /// Takes a factor away from somebody.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn take_factor(&self, who: &str, factor: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("people/{}/factors/{}", name(who), factor_name(factor)))).await.map(drop)
    }

    /// Removes somebody's SSH key.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_key_of(&self, who: &str, fingerprint: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("people/{}/keys/{}", name(who), print(fingerprint)))).await.map(drop)
    }

    /// Signs somebody out everywhere.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn sign_out_person(&self, who: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("people/{}/sign-out", name(who)))).await.map(drop)
    }

    /// What an invitation says.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn open_invitation(&self, secret: &str) -> Result<InvitationFacts> {
        self.ask(self.call(Method::POST, "invitations/open").json(&InvitationSecret { secret: secret.into() })).await
    }

    /// Takes an invitation, and returns who is signed in, with a token.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn take_invitation(&self, given: &InvitationTaken) -> Result<Me> {
        self.ask(self.call(Method::POST, "invitations/take").json(given)).await
    }

    /// Proves a code, for the second step of signing in or again later; the token is replaced.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn step_up(&self, code: &str) -> Result<Me> {
        self.ask(self.call(Method::POST, "step-up/code").json(&GivenCode { code: code.into() })).await
    }

    /// A question for whatever passkey somebody has.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn passkey_question(&self) -> Result<AuthenticatorQuestion> {
        self.ask(self.call(Method::POST, "sign-in/question")).await
    }

    /// One's own account.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn account(&self) -> Result<AccountView> {
        self.ask(self.call(Method::GET, "me/account")).await
    }

    /// Sets a new password; the token is replaced.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn change_password(&self, given: &PasswordChange) -> Result<Me> {
        self.ask(self.call(Method::PUT, "me/password").json(given)).await
    }

    /// A secret for an authenticator app.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn offer_code(&self) -> Result<CodeOffer> {
        self.ask(self.call(Method::POST, "me/code/offer")).await
    }

    /// Enrols for codes; the token is replaced.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn enrol_code(&self, given: &CodeProof) -> Result<Me> {
        self.ask(self.call(Method::PUT, "me/code").json(given)).await
    }

    /// Gives up codes.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_code(&self) -> Result<()> {
        self.send(self.call(Method::DELETE, "me/code")).await.map(drop)
    }

    /// Makes recovery codes.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn make_recovery_codes(&self) -> Result<ShownCodes> {
        self.ask(self.call(Method::POST, "me/recovery-codes")).await
    }

    /// Removes one of one's passkeys.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_passkey(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("me/passkeys/{}", factor_name(id)))).await.map(drop)
    }

    /// What an SSH key must sign to be registered.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn key_question(&self) -> Result<KeyQuestion> {
        self.ask(self.call(Method::POST, "me/keys/question")).await
    }

    /// Registers an SSH key.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn register_key(&self, key: &NewSshKey) -> Result<Vec<SshKeyView>> {
        self.ask(self.call(Method::POST, "me/keys").json(key)).await
    }

    /// Removes one of one's SSH keys.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_key(&self, fingerprint: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("me/keys/{}", print(fingerprint)))).await.map(drop)
    }

    /// Ends a place where one is signed in, or withdraws a token.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn end_device(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("me/devices/{}", name(id)))).await.map(drop)
    }

    /// Signs out everywhere else.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn sign_out_elsewhere(&self) -> Result<()> {
        self.send(self.call(Method::POST, "me/sign-out-elsewhere")).await.map(drop)
    }

    /// Makes an API token.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn make_token(&self, new: &NewApiToken) -> Result<IssuedToken> {
        self.ask(self.call(Method::POST, "me/tokens").json(new)).await
    }

    /// PINs.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn pins(&self) -> Result<Vec<PinView>> {
        self.ask(self.call(Method::GET, "pins")).await
    }

    /// Issues a PIN for a visit.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn issue_pin(&self, new: &NewPin) -> Result<IssuedPin> {
        self.ask(self.call(Method::POST, "pins").json(new)).await
    }

    /// Withdraws a PIN.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_pin(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("pins/{}", name(id)))).await.map(drop)
    }

    /// Types a PIN.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn enter_pin(&self, given: &GivenPin) -> Result<PinTaken> {
        self.ask(self.call(Method::POST, "pins/enter").json(given)).await
    }

    /// Gives a machine a standing PIN.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn set_machine_pin(&self, machine: &str, new: &NewPin) -> Result<IssuedPin> {
        self.ask(self.call(Method::PUT, &format!("machines/{}/pin", name(machine))).json(new)).await
    }

    /// Takes a machine's standing PIN away.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_machine_pin(&self, machine: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("machines/{}/pin", name(machine)))).await.map(drop)
    }

    /// Proposals that wait for a second administrator.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn proposals(&self) -> Result<Vec<ProposalView>> {
        self.ask(self.call(Method::GET, "proposals")).await
    }

    /// Agrees to a proposal: it is done at once.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn agree_to_proposal(&self, id: &str) -> Result<AgreedView> {
        self.ask(self.call(Method::POST, &format!("proposals/{}/agree", name(id)))).await
    }

    /// Withdraws or refuses a proposal.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn drop_proposal(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("proposals/{}", name(id)))).await.map(drop)
    }

    /// Settings.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn settings(&self) -> Result<Vec<SettingView>> {
        self.ask(self.call(Method::GET, "settings")).await
    }

    /// Changes of settings.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn setting_changes(&self) -> Result<Vec<SettingChangeView>> {
        self.ask(self.call(Method::GET, "settings/changes")).await
    }

    /// Changes a setting.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn change_setting(&self, setting: &str, value: &SettingValue) -> Result<SettingView> {
        self.ask(self.call(Method::PUT, &format!("settings/{}", name(setting))).json(value)).await
    }

    /// Keys of the service.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn service_keys(&self) -> Result<Vec<ServiceKeyView>> {
        self.ask(self.call(Method::GET, "keys")).await
    }

    /// Rotates a key of the service.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn rotate_key(&self, rotation: &Rotation) -> Result<Vec<ServiceKeyView>> {
        self.ask(self.call(Method::POST, "keys").json(rotation)).await
    }
}
