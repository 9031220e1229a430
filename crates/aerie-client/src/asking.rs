//! Calls about requests, passes, stopping, and live sessions.

use crate::people::name;
use crate::{Client, ClientError, Result};
use aerie_api::{
    DeputyView, Extension, FindingView, Invited, Keyboard, LiveLine, LiveQuery, LockdownView, NewAnswer, NewRequest, NoticeView, PassView,
    PeopleThere, RequestView, StopOrder, Stopped, TerminalSize, Typed, WhyNote,
};
use reqwest::Method;

impl Client {
    /// Requests for access: one's own, and those to answer.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn requests(&self, state: Option<&str>) -> Result<Vec<RequestView>> {
        self.ask(self.call(Method::GET, "requests").query(&[("state", state.unwrap_or_default())])).await
    }

    /// One request.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn request(&self, id: &str) -> Result<RequestView> {
        self.ask(self.call(Method::GET, &format!("requests/{}", name(id)))).await
    }

    /// Asks for access.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn ask_access(&self, new: &NewRequest) -> Result<RequestView> {
        self.ask(self.call(Method::POST, "requests").json(new)).await
    }

    /// Answers a request.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn answer(&self, id: &str, answer: &NewAnswer) -> Result<RequestView> {
        self.ask(self.call(Method::POST, &format!("requests/{}/answer", name(id))).json(answer)).await
    }

    /// Withdraws one's own request.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_request(&self, id: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("requests/{}/withdraw", name(id)))).await.map(drop)
    }

    /// Passes that are good or will be.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn passes(&self) -> Result<Vec<PassView>> {
        self.ask(self.call(Method::GET, "passes")).await
    }

    /// Withdraws a pass.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn withdraw_pass(&self, id: &str, why: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("passes/{}/withdraw", name(id))).json(&WhyNote { why: why.into() })).await.map(drop)
    }

    /// Who answers in whose place.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn deputies(&self) -> Result<Vec<DeputyView>> {
        self.ask(self.call(Method::GET, "deputies")).await
    }

    /// Lets somebody answer in one's place.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn set_deputy(&self, deputy: &DeputyView) -> Result<()> {
        self.send(self.call(Method::PUT, "deputies").json(deputy)).await.map(drop)
    }

    /// Answers oneself again.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn end_deputy(&self) -> Result<()> {
        self.send(self.call(Method::DELETE, "deputies")).await.map(drop)
    }

    /// Notices that were sent, or are to be.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn notices(&self) -> Result<Vec<NoticeView>> {
        self.ask(self.call(Method::GET, "notices")).await
    }

    /// Ends sessions.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn stop(&self, order: &StopOrder) -> Result<Stopped> {
        self.ask(self.call(Method::POST, "stop").json(order)).await
    }

    /// Locks the service down.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn lock_down(&self, why: &str) -> Result<LockdownView> {
        self.ask(self.call(Method::PUT, "lockdown").json(&WhyNote { why: why.into() })).await
    }

    /// Opens the service again.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn lift(&self, why: &str) -> Result<()> {
        self.send(self.call(Method::POST, "lockdown/lift").json(&WhyNote { why: why.into() })).await.map(drop)
    }

    /// Gives a live session more time.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn extend_session(&self, id: &str, more: &Extension) -> Result<()> {
        self.send(self.call(Method::POST, &format!("sessions/{}/extend", name(id))).json(more)).await.map(drop)
    }

    /// Invites somebody into a live session.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn invite_into(&self, id: &str, who: &Invited) -> Result<PeopleThere> {
        self.ask(self.call(Method::POST, &format!("sessions/{}/guests", name(id))).json(who)).await
    }

    /// Takes an invitation back.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn dismiss(&self, id: &str, person: &str) -> Result<PeopleThere> {
        self.ask(self.call(Method::DELETE, &format!("sessions/{}/guests/{}", name(id), name(person)))).await
    }

    /// Gives the keyboard of a live session to a guest, or back.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn keyboard(&self, id: &str, to: Option<&str>) -> Result<PeopleThere> {
        self.ask(self.call(Method::POST, &format!("sessions/{}/keyboard", name(id))).json(&Keyboard { to: to.map(Into::into) })).await
    }

    /// Types into a live session.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn type_into(&self, id: &str, channel: u32, text: &str) -> Result<()> {
        self.send(self.call(Method::POST, &format!("sessions/{}/typed", name(id))).json(&Typed { channel, text: text.into() }))
            .await
            .map(drop)
    }

    /// Says how large the window is in which one works.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn resize_terminal(&self, id: &str, channel: u32, (columns, rows): (u16, u16)) -> Result<()> {
        let size = TerminalSize { channel, columns, rows };
        self.send(self.call(Method::POST, &format!("sessions/{}/size", name(id))).json(&size)).await.map(drop)
    }

    /// Closes the finding of an emergency.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn review_finding(&self, id: &str, why: &str) -> Result<FindingView> {
        self.ask(self.call(Method::POST, &format!("findings/{}/review", name(id))).json(&WhyNote { why: why.into() })).await
    }

    /// Watches live sessions: each line as it comes, until they end or `each` says that it is enough.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn watch_live(&self, sessions: &str, mut each: impl FnMut(LiveLine) -> bool) -> Result<()> {
        let query = LiveQuery { sessions: sessions.into() };
        let mut answer = self.send(self.call(Method::GET, "live").query(&query)).await?;
        let broken = |e: reqwest::Error| ClientError::Unreachable(self.base.clone(), e.without_url().to_string());
        let mut rest: Vec<u8> = vec![];
        while let Some(piece) = answer.chunk().await.map_err(broken)? {
            rest.extend_from_slice(&piece);
            while let Some(end) = rest.iter().position(|b| *b == b'\n') {
                let line: Vec<u8> = rest.drain(..=end).collect();
                let line = serde_json::from_slice(&line).map_err(|_| ClientError::Foreign(self.base.clone()))?;
                if !each(line) {
                    return Ok(());
                }
            }
        }
        Ok(())
    }
}
