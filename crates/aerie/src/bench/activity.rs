//! What happens on a screen while it is measured: text that scrolls by, a window that is dragged about, photographs that are looked through.

use super::Outcome;
use aerie_lab::XScreen;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;
use x11rb::connection::Connection as _;
use x11rb::protocol::xproto::{
    ConfigureWindowAux, ConnectionExt as _, CreateGCAux, CreateWindowAux, EventMask, ImageFormat, StackMode, Window, WindowClass,
};
use x11rb::rust_connection::RustConnection;

/// Lines of text that scroll by, thirty a second: what a build or a log looks like.
pub(super) const SCROLLING: &str = "while :; do head -c 900 /dev/urandom | base64 -w 96 | head -n 3; sleep 0.1; done";
/// A screen full of text that stands.
const FULL: &str = "head -c 12000 /dev/urandom | base64 -w 196; sleep 100000";
/// A window is moved so often in a second.
const MOVES: u64 = 20;
/// A photograph is looked at for so long.
const LOOKS: Duration = Duration::from_secs(2);
/// Width and height of a photograph.
const PHOTO: (u16, u16) = (1000, 700);

/// What happens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Activity {
    Scrolling,
    Dragging,
    Photographs,
}

impl Activity {
    pub(super) const ALL: [Activity; 3] = [Self::Scrolling, Self::Dragging, Self::Photographs];

    /// The first of its figures; the others say "the same".
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Scrolling => "scrolling text: updates",
            Self::Dragging => "a window of text that is dragged, 20 steps a second: updates",
            Self::Photographs => "photographs, another every 2 s: updates",
        }
    }
}

/// It goes on until this is dropped.
pub(super) struct Going {
    over: Arc<AtomicBool>,
    acting: Option<JoinHandle<()>>,
}

impl Drop for Going {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        let _ = self.acting.take().map(JoinHandle::join);
    }
}

/// Begins it on a screen of 1280 × 800.
pub(super) fn begin(what: Activity, screen: &mut XScreen) -> Outcome<Going> {
    let script = if what == Activity::Scrolling { SCROLLING } else { FULL };
    let geometry = if what == Activity::Dragging { "90x30+0+0" } else { "200x58+0+0" };
    screen.terminal(geometry, &[], script)?;
    let over = Arc::new(AtomicBool::new(false));
    let acting = match what {
        Activity::Scrolling => None,
        Activity::Dragging | Activity::Photographs => {
            let (x, number) = RustConnection::connect(Some(screen.display()))?;
            let root = x.setup().roots.get(number).ok_or("no screen")?.root;
            let over = over.clone();
            Some(std::thread::spawn(move || {
                let done = if what == Activity::Dragging { drag(&x, root, &over) } else { show(&x, root, &over) };
                if let Err(e) = done {
                    tracing::warn!(error = %e, "nothing happens on the screen any more");
                }
            }))
        }
    };
    Ok(Going { over, acting })
}

/// Moves the largest window of the screen about.
fn drag(x: &RustConnection, root: Window, over: &AtomicBool) -> Outcome<()> {
    let mut step = 0u64;
    while !over.load(Ordering::Relaxed) {
        let mut largest = (0u32, root);
        for window in x.query_tree(root)?.reply()?.children {
            let Ok(size) = x.get_geometry(window)?.reply() else { continue };
            largest = largest.max((u32::from(size.width) * u32::from(size.height), window));
        }
        let around = step as f64 / 30.0;
        let (left, top) = (350.0 + 300.0 * around.cos(), 200.0 + 180.0 * around.sin());
        x.configure_window(largest.1, &ConfigureWindowAux::new().x(left as i32).y(top as i32))?;
        x.flush()?;
        step += 1;
        std::thread::sleep(Duration::from_millis(1000 / MOVES));
    }
    Ok(())
}

/// Shows one photograph after the other.
fn show(x: &RustConnection, root: Window, over: &AtomicBool) -> Outcome<()> {
    let (window, graphics) = (x.generate_id()?, x.generate_id()?);
    let (width, height) = PHOTO;
    let about = CreateWindowAux::new().event_mask(EventMask::EXPOSURE);
    x.create_window(0, window, root, 140, 50, width, height, 0, WindowClass::INPUT_OUTPUT, 0, &about)?;
    x.create_gc(graphics, window, &CreateGCAux::new())?;
    x.map_window(window)?;
    x.flush()?;
    let mut n = 0;
    while !over.load(Ordering::Relaxed) {
        // The terminal may have come up after it, and above.
        x.configure_window(window, &ConfigureWindowAux::new().stack_mode(StackMode::ABOVE))?;
        let photo = photograph(n);
        // As much as one request may have.
        for (band, rows) in photo.chunks(usize::from(width) * 4 * 50).enumerate() {
            let top = i16::try_from(band * 50)?;
            let tall = u16::try_from(rows.len() / (usize::from(width) * 4))?;
            x.put_image(ImageFormat::Z_PIXMAP, window, graphics, width, tall, 0, top, 0, 24, rows)?;
        }
        x.flush()?;
        n += 1;
        for _ in 0..20 {
            if over.load(Ordering::Relaxed) {
                return Ok(());
            }
            std::thread::sleep(LOOKS / 20);
        }
    }
    Ok(())
}

/// What a camera gives: soft shapes, and the noise of its sensor in the lowest three bits. Blue, green, red and nothing of each pixel.
fn photograph(n: u32) -> Vec<u8> {
    let (width, height) = PHOTO;
    let mut noise = 2_463_534_242u32.wrapping_add(n);
    let mut out = Vec::with_capacity(usize::from(width) * usize::from(height) * 4);
    for y in 0..height {
        for x in 0..width {
            let (u, v) = (f64::from(x) / 97.0 + f64::from(n), f64::from(y) / 61.0);
            for shift in 0..3 {
                noise ^= noise << 13;
                noise ^= noise >> 17;
                noise ^= noise << 5;
                let soft = 120.0 + 60.0 * (u + f64::from(shift)).sin() + 50.0 * (v * 1.3 + u * 0.4).cos();
                out.push((soft + f64::from(noise % 8)) as u8);
            }
            out.push(0);
        }
    }
    out
}
