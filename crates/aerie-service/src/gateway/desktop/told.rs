//! What is said, noted, drawn and passed beside the picture.

use super::super::connection::lock;
use super::{Desktop, PICTURE_EVERY, Pictured};
use aerie_core::desktop::{Message, Saying};
use aerie_core::evidence::EventKind;
use aerie_core::recording::{Frame, Transfer};
use aerie_core::session::consent::{PICTURE_WIDTH, Talk};

impl Desktop {
    /// A file went one way or the other beside it.
    pub(crate) async fn note_file(&self, transfer: Transfer) {
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::File(transfer)).await;
        }
    }

    /// Something said or drawn by somebody who takes part.
    pub(crate) async fn tell(&self, message: Message) {
        if let Message::Said { saying: Saying::Note, who, text } = &message {
            let says = format!("{who} noted of the session on {}: {text}", self.session.machine);
            self.connection.app.note(self.event(EventKind::SessionJoined, says).with("note", true)).await;
        }
        self.show_person(&message);
        let kept = self.screen.tell(message);
        if let Some(recording) = &self.session.recording {
            recording.frame(0, Frame::Desktop(kept)).await;
        }
    }

    /// Shows the person at the machine, on the page of its agent, what is said and where somebody points.
    fn show_person(&self, message: &Message) {
        let talk = &self.session.live.talk;
        match message {
            Message::Said { saying: Saying::Chat, who, text } => talk.say(Talk::Said { who: who.clone(), text: text.clone() }),
            Message::Drawn { points, .. } if points.is_empty() => talk.say(Talk::Line(vec![])),
            Message::Drawn { points, .. } if talk.is_shown() => {
                if let Some((of, size)) = self.picture_for_person() {
                    talk.say(Talk::line(points, of, size));
                }
            }
            _ => {}
        }
    }

    /// Sees to it that the person has a picture that is no older than [`PICTURE_EVERY`]; gives the size of the screen, and of its picture.
    fn picture_for_person(&self) -> Option<((u16, u16), (u16, u16))> {
        let mut pictured = lock(&self.pictured);
        let fresh = pictured.filter(|p| p.at.elapsed() < PICTURE_EVERY);
        if fresh.is_none() {
            let small = self.screen.small(PICTURE_WIDTH)?;
            let png = crate::desktop::png_of(small.size, &small.rgb).ok()?;
            Talk::picture(small.size, &png).into_iter().for_each(|t| self.session.live.talk.say(t));
            *pictured = Some(Pictured { at: tokio::time::Instant::now(), of: small.of, size: small.size });
        }
        pictured.map(|p| (p.of, p.size))
    }
}
