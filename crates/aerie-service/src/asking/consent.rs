//! Asks the person at a machine, through its agent, and hears of it when they take it back.

use crate::service::App;
use aerie_core::policy::ForwardTarget;
use aerie_core::session::consent::{FromMachine, MAX_LINE, Question, TARGET, Talk, ToMachine, line};
use aerie_tunnel::TunnelStream;
use jiff::Timestamp;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader, ReadHalf, WriteHalf};

/// How long the agent has to take the question.
const PATIENCE: Duration = Duration::from_secs(10);

/// A person at a machine who was asked, or told.
pub(crate) struct Consenting {
    pub(crate) question: Question,
    /// Where a forwarded port would lead.
    pub(crate) target: Option<ForwardTarget>,
    read: BufReader<ReadHalf<TunnelStream>>,
    write: WriteHalf<TunnelStream>,
    line: Vec<u8>,
}

/// Puts a question. The error is a sentence for whoever asks.
pub(crate) async fn ask_person(app: &App, question: Question, target: Option<ForwardTarget>) -> Result<Consenting, String> {
    let nobody = || format!("Nobody at {} can be asked: its agent is not connected.", question.machine);
    let tunnel = app.agents.of(&question.machine).and_then(|known| known.tunnel()).ok_or_else(nobody)?;
    let opened = tokio::time::timeout(PATIENCE, tunnel.open(TARGET)).await.map_err(|_| nobody())?;
    let stream = opened.map_err(|e| format!("The agent of {} does not ask: {e}.", question.machine))?;
    let (read, write) = tokio::io::split(stream);
    let mut asked = Consenting { question: question.clone(), target, read: BufReader::new(read), write, line: vec![] };
    if !asked.say(&ToMachine::Question(question.clone())).await {
        return Err(nobody());
    }
    Ok(asked)
}

impl Consenting {
    /// What the agent says next; none when it is gone, or says what cannot be read.
    ///
    /// Cancel safe: what was read of a line is kept.
    pub(crate) async fn next(&mut self) -> Option<FromMachine> {
        loop {
            let left = MAX_LINE.saturating_sub(self.line.len());
            let read = (&mut self.read).take(left as u64 + 1).read_until(b'\n', &mut self.line).await.ok()?;
            if self.line.last() == Some(&b'\n') {
                let said = serde_json::from_slice(&self.line).ok();
                self.line.clear();
                return said;
            }
            if read == 0 || self.line.len() > MAX_LINE {
                return None;
            }
        }
    }

    async fn say(&mut self, what: &ToMachine) -> bool {
        let writing = async { self.write.write_all(&line(what)).await.is_ok() && self.write.flush().await.is_ok() };
        tokio::time::timeout(PATIENCE, writing).await.unwrap_or(false)
    }

    /// It has begun: the sign is shown.
    pub(crate) async fn began(&mut self, at: Timestamp) {
        self.say(&ToMachine::Began(at)).await;
    }

    /// Something is said or drawn for the person.
    pub(crate) async fn talk(&mut self, what: Talk) {
        self.say(&ToMachine::Talk(what)).await;
    }

    /// It is over, or will not be.
    pub(crate) async fn over(mut self, why: &str) {
        self.say(&ToMachine::Over(why.into())).await;
        let _ = self.write.shutdown().await;
    }
}
