//! The windows in which a person has a desktop session: one at a time, and none for a while.

use super::{Desktop, WAITS};
use crate::desktop::Order;
use aerie_core::session::EndReason;
use std::sync::Arc;
use std::sync::atomic::Ordering;

impl Desktop {
    /// Ends the session when its person has had no window for too long.
    pub(super) async fn wait_for_windows(self: Arc<Self>) {
        loop {
            let changed = self.windows.notified();
            let waiting = async {
                match self.screen.has_room() {
                    Some(_) => std::future::pending().await,
                    None => tokio::time::sleep(WAITS).await,
                }
            };
            tokio::select! {
                () = self.session.live.ended.cancelled() => break,
                () = changed => {}
                () = waiting => {
                    self.session.live.end(EndReason::PathLost);
                    break;
                }
            }
        }
        // The tending of the session waits for the person to be gone.
        self.connection.closed.cancel();
    }

    /// The person ends it.
    pub(crate) fn leave(&self) {
        self.session.live.end(EndReason::Left);
    }

    /// A window of the person takes it; the one before is out. Gives the number of the window.
    pub(crate) fn open_window(&self) -> u64 {
        let number = self.window.fetch_add(1, Ordering::SeqCst) + 1;
        self.screen.begin_pace();
        self.windows.notify_waiters();
        number
    }

    /// Whether a window still has it.
    pub(crate) fn has(&self, window: u64) -> bool {
        self.window.load(Ordering::SeqCst) == window
    }

    /// A window is gone. Nothing stays pressed.
    pub(crate) async fn close_window(&self, window: u64) {
        if self.has(window) {
            self.screen.handle_drawn(None);
            self.windows.notify_waiters();
            self.order(Order::Release).await;
        }
    }

    /// Another window of the person came.
    pub(crate) async fn replaced(&self, window: u64) {
        loop {
            let changed = self.windows.notified();
            tokio::pin!(changed);
            changed.as_mut().enable();
            if !self.has(window) {
                return;
            }
            changed.await;
        }
    }
}
