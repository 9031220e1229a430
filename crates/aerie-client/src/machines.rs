//! Calls about machines, agents, checks and credentials.

use crate::people::name;
use crate::{Client, ClientError, Result};
use aerie_api::{
    AcceptAgents, AcceptHostKey, CheckLine, CheckMany, CheckOutNote, CheckedOut, CodeView, CredentialEvent, CredentialView, HostKeyView,
    IssuedCode, MachineChange, MachineDetail, MachinePage, MachineQuery, MachineView, NewCode, NewCredential, NewMachine, Reason,
    RelayEntries, RetiredView, RotatedView, TrustView,
};
use reqwest::Method;

impl Client {
    /// Machines, found by a few letters.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn machines(&self, query: &MachineQuery) -> Result<MachinePage> {
        self.ask(self.call(Method::GET, "machines").query(query)).await
    }

    /// Everything that is known of a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn machine(&self, machine: &str) -> Result<MachineDetail> {
        self.ask(self.call(Method::GET, &format!("machines/{}", name(machine)))).await
    }

    /// Registers a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn add_machine(&self, new: &NewMachine) -> Result<MachineView> {
        self.ask(self.call(Method::POST, "machines").json(new)).await
    }

    /// Changes what is known of a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn change_machine(&self, machine: &str, change: &MachineChange) -> Result<MachineView> {
        self.ask(self.call(Method::PATCH, &format!("machines/{}", name(machine))).json(change)).await
    }

    /// Takes a machine off the list.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn retire_machine(&self, machine: &str, why: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("machines/{}/retire", name(machine))).json(&Reason { why: why.into() })).await.map(drop)
    }

    /// Machines that left the list.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn retired_machines(&self) -> Result<Vec<RetiredView>> {
        self.ask(self.call(Method::GET, "retired-machines")).await
    }

    /// Brings a machine back.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn restore_machine(&self, machine: &str) -> Result<MachineView> {
        self.ask(self.call(Method::POST, &format!("retired-machines/{}/restore", name(machine)))).await
    }

    /// Makes a machine one of one's favourites, or not.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn favour_machine(&self, machine: &str, yes: bool) -> Result<()> {
        let method = if yes { Method::PUT } else { Method::DELETE };
        self.send(self.call(method, &format!("machines/{}/favourite", name(machine)))).await.map(drop)
    }

    /// Issues an enrolment code.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn issue_code(&self, new: &NewCode) -> Result<IssuedCode> {
        self.ask(self.call(Method::POST, "enrolment-codes").json(new)).await
    }

    /// Codes that are good.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn codes(&self) -> Result<Vec<CodeView>> {
        self.ask(self.call(Method::GET, "enrolment-codes")).await
    }

    /// Withdraws a code.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_code(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("enrolment-codes/{}", name(id)))).await.map(drop)
    }

    /// Revokes the agent of a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn revoke_agent(&self, machine: &str, why: &str) -> Result<()> {
        let path = format!("machines/{}/agent/revoke", name(machine));
        self.send(self.call(Method::POST, &path).json(&Reason { why: why.into() })).await.map(drop)
    }

    /// Says what the agent of a machine may reach for others.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn set_relay(&self, machine: &str, entries: Vec<String>) -> Result<()> {
        let path = format!("machines/{}/agent/relay", name(machine));
        self.send(self.call(Method::PUT, &path).json(&RelayEntries { entries })).await.map(drop)
    }

    /// Takes each agent back once without its ticket, for some minutes: after a backup was put back.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn accept_agents(&self, minutes: u32, why: &str) -> Result<()> {
        self.send(self.call(Method::POST, "agents/accept").json(&AcceptAgents { minutes, why: why.into() })).await.map(drop)
    }

    async fn check_lines(&self, call: reqwest::RequestBuilder, mut each: impl FnMut(CheckLine)) -> Result<()> {
        let mut answer = self.send(call).await?;
        let broken = |e: reqwest::Error| ClientError::Unreachable(self.base.clone(), e.to_string());
        let mut rest: Vec<u8> = vec![];
        while let Some(piece) = answer.chunk().await.map_err(broken)? {
            rest.extend_from_slice(&piece);
            while let Some(end) = rest.iter().position(|b| *b == b'\n') {
                let line: Vec<u8> = rest.drain(..=end).collect();
                each(serde_json::from_slice(&line).map_err(|_| ClientError::Foreign(self.base.clone()))?);
            }
        }
        Ok(())
    }

    /// Checks a machine; `each` hears of every step as it comes.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn check_machine(&self, machine: &str, each: impl FnMut(CheckLine)) -> Result<()> {
        self.check_lines(self.call(Method::POST, &format!("machines/{}/check", name(machine))), each).await
    }

    /// Checks many machines beside each other.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn check_machines(&self, which: &CheckMany, each: impl FnMut(CheckLine)) -> Result<()> {
        self.check_lines(self.call(Method::POST, "machine-checks").json(which), each).await
    }

    /// What the SSH server of a machine must be told.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn machine_trust(&self, machine: &str) -> Result<TrustView> {
        self.ask(self.call(Method::GET, &format!("machines/{}/trust", name(machine)))).await
    }

    /// The host key that a machine shows, beside the pinned one.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn host_key(&self, machine: &str) -> Result<HostKeyView> {
        self.ask(self.call(Method::GET, &format!("machines/{}/host-key", name(machine)))).await
    }

    /// Pins the host key that a machine shows.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn accept_host_key(&self, machine: &str, given: &AcceptHostKey) -> Result<()> {
        self.send(self.call(Method::POST, &format!("machines/{}/host-key", name(machine))).json(given)).await.map(drop)
    }

    /// Looks for accounts and keys on a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn discover(&self, machine: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("machines/{}/discover", name(machine)))).await.map(drop)
    }

    /// Credentials that are kept.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn vault(&self) -> Result<Vec<CredentialView>> {
        self.ask(self.call(Method::GET, "vault")).await
    }

    /// Keeps a credential, or changes how it is kept.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn put_credential(&self, machine: &str, account: &str, new: &NewCredential) -> Result<CredentialView> {
        self.ask(self.call(Method::PUT, &format!("vault/{}/{}", name(machine), name(account))).json(new)).await
    }

    /// Takes a credential out for good.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn remove_credential(&self, machine: &str, account: &str) -> Result<()> {
        self.send(self.call(Method::DELETE, &format!("vault/{}/{}", name(machine), name(account)))).await.map(drop)
    }

    /// Changes a credential on its machine now.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn rotate_credential(&self, machine: &str, account: &str) -> Result<RotatedView> {
        self.ask(self.call(Method::POST, &format!("vault/{}/{}/rotate", name(machine), name(account)))).await
    }

    /// Sees a credential.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn check_out(&self, machine: &str, account: &str, note: &CheckOutNote) -> Result<CheckedOut> {
        self.ask(self.call(Method::POST, &format!("vault/{}/{}/check-out", name(machine), name(account))).json(note)).await
    }

    /// What was done with a credential.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn credential_history(&self, machine: &str, account: &str) -> Result<Vec<CredentialEvent>> {
        self.ask(self.call(Method::GET, &format!("vault/{}/{}/history", name(machine), name(account)))).await
    }
}
