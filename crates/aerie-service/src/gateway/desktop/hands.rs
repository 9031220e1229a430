//! What is done on the machine's desktop: keys, movements, and its clipboard.

use super::Desktop;
use crate::desktop::Order;
use aerie_core::desktop::Quality;
use aerie_core::evidence::EventKind;
use aerie_core::policy::Capability;
use jiff::Timestamp;

impl Desktop {
    /// Nothing stays pressed: somebody else has the keyboard.
    pub(crate) async fn let_go(&self) {
        self.order(Order::Release).await;
    }

    pub(super) async fn order(&self, order: Order) {
        let _ = self.orders.send(order).await;
    }

    /// A key or movement of somebody; `guest` has the keyboard by the stage. False where it may not be.
    pub(crate) async fn act(&self, order: Order, guest: Option<&str>) -> bool {
        let stage = &self.session.live.stage;
        match guest {
            // Whoever else has the keyboard types into this session: what it may not be used for, they may not.
            _ if !self.may(Capability::Control) => return false,
            Some(person) if stage.people().2.as_deref() != Some(person) => return false,
            Some(_) => {}
            // While somebody else has the keyboard, a key of the person takes it back, and does nothing else.
            None => {
                if matches!(order, Order::Key(..) | Order::At(_, _, 1..)) && stage.give_keyboard(None) {
                    self.order(Order::Release).await;
                    return true;
                }
                if stage.people().2.is_some() {
                    return true;
                }
            }
        }
        if !matches!(order, Order::Refresh) {
            self.session.live.note_in(8, Timestamp::now().as_millisecond());
        }
        self.order(order).await;
        true
    }

    /// How exactly colours are sent, to all who look.
    pub(crate) async fn set_quality(&self, quality: Quality) {
        self.order(Order::Quality(quality)).await;
    }

    /// The whole picture is asked of the machine anew.
    pub(crate) async fn refresh(&self) {
        if let Some(meeting) = self.visit.as_ref().filter(|_| self.film) {
            return meeting.tell(aerie_api::ToVisited::Key);
        }
        self.order(Order::Refresh).await;
    }

    /// Text for the machine's clipboard. False where it may not be.
    pub(crate) async fn paste(&self, text: String) -> bool {
        if !self.may(Capability::ClipboardIn) {
            return false;
        }
        self.note_clipboard("put", "into", text.len()).await;
        self.order(Order::Paste(text)).await;
        true
    }

    /// Text of the machine's clipboard goes to the person.
    pub(crate) async fn note_copied(&self, bytes: usize) {
        self.note_clipboard("took", "out of", bytes).await;
    }

    async fn note_clipboard(&self, verb: &str, way: &str, bytes: usize) {
        let size = aerie_core::wording::size(bytes as u64);
        let says = format!("{} {verb} text of {size} {way} the clipboard of {}.", self.person(), self.session.machine);
        let direction = if way == "into" { "in" } else { "out" };
        self.session.live.mark(&says);
        let event = self.event(EventKind::ClipboardUsed, says).with("direction", direction).with("bytes", bytes as u64);
        self.connection.app.note(event).await;
    }
}
