//! Looks at the screen: waits until something on it changed, takes that part, and writes it down.

use super::{CHANGES, EVERYTHING, NOTHING, ScreenError, Shared};
use aerie_core::desktop::{Damage, Framebuffer, Message, Rect, ScreenWriter};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use x11rb::connection::Connection as _;
use x11rb::protocol::Event;
use x11rb::protocol::damage::{ConnectionExt as _, ReportLevel};
use x11rb::protocol::randr::{ConnectionExt as _, MonitorInfo, NotifyMask};
use x11rb::protocol::xfixes::{ConnectionExt as _, CursorNotifyMask};
use x11rb::protocol::xproto::{ChangeWindowAttributesAux, ConnectionExt as _, EventMask, ImageFormat, ImageOrder};

/// The screen is looked at so often at most.
const PAUSE: Duration = Duration::from_millis(40);
/// Parts that are told apart; with more, all between them counts as changed.
const MOST_PARTS: usize = 32;
/// Side of a pointer's picture.
const LARGEST_POINTER: u16 = 256;

/// Sees the screen.
pub(super) struct Eyes {
    shared: Arc<Shared>,
    picture: Framebuffer,
    writer: ScreenWriter,
    changed: Vec<Rect>,
    pointer: bool,
    resized: bool,
    /// The single screens may be elsewhere.
    arranged: bool,
}

impl Eyes {
    pub(super) fn new(shared: Arc<Shared>) -> Result<Self, ScreenError> {
        let (x, root) = (&shared.x, shared.root);
        let setup = x.setup();
        let known = setup.image_byte_order == ImageOrder::LSB_FIRST
            && setup.roots.iter().filter(|s| s.root == root).any(|s| {
                let visual = s.allowed_depths.iter().flat_map(|d| &d.visuals).find(|v| v.visual_id == s.root_visual);
                let wide = setup.pixmap_formats.iter().any(|f| f.depth == s.root_depth && f.bits_per_pixel == 32);
                wide && visual.is_some_and(|v| (v.red_mask, v.green_mask, v.blue_mask) == (0xff_0000, 0xff00, 0xff))
            });
        if !known {
            return Err(ScreenError::Colours);
        }
        x.damage_query_version(1, 1)?.reply()?;
        x.xfixes_query_version(5, 0)?.reply()?;
        let damage = x.generate_id()?;
        x.damage_create(damage, root, ReportLevel::RAW_RECTANGLES)?.check()?;
        x.xfixes_select_cursor_input(root, CursorNotifyMask::DISPLAY_CURSOR)?.check()?;
        x.randr_query_version(1, 5)?.reply()?;
        x.randr_select_input(root, NotifyMask::SCREEN_CHANGE | NotifyMask::CRTC_CHANGE | NotifyMask::RESOURCE_CHANGE)?.check()?;
        let moves = ChangeWindowAttributesAux::new().event_mask(EventMask::STRUCTURE_NOTIFY);
        x.change_window_attributes(root, &moves)?.check()?;
        let size = x.get_geometry(root)?.reply()?;
        let picture = Framebuffer::new(size.width, size.height).map_err(|_| ScreenError::Colours)?;
        Ok(Self { shared, picture, writer: ScreenWriter::new(), changed: vec![], pointer: true, resized: true, arranged: true })
    }

    /// Looks, and gives what is seen, until it is over.
    pub(super) fn look(mut self, to: &mpsc::Sender<Vec<u8>>) {
        let shared = self.shared.clone();
        if let Err(e) = self.try_look(to) {
            tracing::debug!(error = %e, "the screen is seen no longer");
        }
        shared.end();
    }

    fn try_look(&mut self, to: &mpsc::Sender<Vec<u8>>) -> Result<(), ScreenError> {
        let mut last: Option<Instant> = None;
        loop {
            let event = self.shared.x.wait_for_event()?;
            self.take(&event);
            if let Some(rest) = last.and_then(|l| PAUSE.checked_sub(l.elapsed())) {
                std::thread::sleep(rest);
            }
            while let Some(event) = self.shared.x.poll_for_event()? {
                self.take(&event);
            }
            if self.shared.over.load(Ordering::SeqCst) {
                return Ok(());
            }
            let news = self.resized || self.arranged || self.pointer || !self.changed.is_empty();
            let wants = self.shared.wants.load(Ordering::SeqCst);
            if wants == NOTHING || wants == CHANGES && !news {
                continue;
            }
            self.shared.wants.store(NOTHING, Ordering::SeqCst);
            last = Some(Instant::now());
            let bytes = self.seen(wants == EVERYTHING)?;
            if to.blocking_send(bytes).is_err() {
                return Ok(());
            }
        }
    }

    fn take(&mut self, event: &Event) {
        match event {
            Event::DamageNotify(d) => {
                let (x, y) = (d.area.x.max(0) as u16, d.area.y.max(0) as u16);
                self.changed.push(Rect { x, y, w: d.area.width, h: d.area.height });
                if self.changed.len() > MOST_PARTS {
                    let all = self.changed.drain(..).reduce(around);
                    self.changed.extend(all);
                }
            }
            Event::XfixesCursorNotify(_) => self.pointer = true,
            Event::ConfigureNotify(c) if c.window == self.shared.root => self.resized = true,
            Event::RandrScreenChangeNotify(_) | Event::RandrNotify(_) => self.arranged = true,
            _ => {}
        }
    }

    /// What changed since the last time.
    fn seen(&mut self, everything: bool) -> Result<Vec<u8>, ScreenError> {
        let (mut out, x) = (vec![], &self.shared.x);
        if std::mem::take(&mut self.resized) {
            self.arranged = true;
            let size = x.get_geometry(self.shared.root)?.reply()?;
            if (size.width, size.height) != self.picture.size() {
                self.picture = Framebuffer::new(size.width, size.height).map_err(|_| ScreenError::Colours)?;
            }
            self.changed = vec![self.whole()];
        }
        if everything {
            self.writer.begin_anew();
            self.changed = vec![self.whole()];
        }
        let (w, h) = self.picture.size();
        let within = |r: &Rect| r.x < w && r.y < h && r.w > 0 && r.h > 0;
        let parts: Vec<Rect> = std::mem::take(&mut self.changed).into_iter().filter(within).map(|r| cut(r, w, h)).collect();
        for r in &parts {
            let taken = x.get_image(ImageFormat::Z_PIXMAP, self.shared.root, r.x as i16, r.y as i16, r.w, r.h, !0)?.reply();
            match taken {
                Ok(image) => drop(self.picture.put_bgrx(*r, &image.data)),
                // The screen became smaller meanwhile: the event that says so is on its way.
                Err(x11rb::errors::ReplyError::X11Error(_)) => self.resized = true,
                Err(e) => return Err(e.into()),
            }
        }
        let damage: Vec<Damage> = parts.into_iter().map(Damage::Pixels).collect();
        let update = self.writer.update(&self.picture, &damage);
        if std::mem::take(&mut self.arranged) || everything {
            out.extend(self.screens_bytes()?);
        }
        if everything || std::mem::take(&mut self.pointer) {
            out.extend(self.pointer_bytes()?);
        }
        // The size comes first: nothing is shown before it.
        Ok([update, out].concat())
    }

    fn whole(&self) -> Rect {
        let (w, h) = self.picture.size();
        Rect { x: 0, y: 0, w, h }
    }

    /// Where the single screens are.
    fn screens_bytes(&self) -> Result<Vec<u8>, ScreenError> {
        let (w, h) = self.picture.size();
        let found = self.shared.x.randr_get_monitors(self.shared.root, true)?.reply()?.monitors;
        let at = |m: &MonitorInfo| Rect { x: m.x.max(0) as u16, y: m.y.max(0) as u16, w: m.width, h: m.height };
        let seen = found.iter().map(at).filter(|r| r.x < w && r.y < h).map(|r| cut(r, w, h));
        Ok(self.writer.beside(&Message::Screens(seen.collect())))
    }

    fn pointer_bytes(&self) -> Result<Vec<u8>, ScreenError> {
        let image = self.shared.x.xfixes_get_cursor_image()?.reply()?;
        if image.width > LARGEST_POINTER || image.height > LARGEST_POINTER {
            return Ok(vec![]);
        }
        let pixels = image.cursor_image.iter().flat_map(|argb| {
            let [a, r, g, b] = argb.to_be_bytes();
            // Colours come multiplied with how opaque they are.
            let plain = |c: u8| if a == 0 { 0 } else { (u32::from(c) * 255 / u32::from(a)).min(255) as u8 };
            [plain(r), plain(g), plain(b), a]
        });
        let shape = Message::Shape { size: (image.width, image.height), hot: (image.xhot, image.yhot), pixels: pixels.collect() };
        Ok(self.writer.beside(&shape))
    }
}

fn around(a: Rect, b: Rect) -> Rect {
    let (x, y) = (a.x.min(b.x), a.y.min(b.y));
    let right = a.x.saturating_add(a.w).max(b.x.saturating_add(b.w));
    let bottom = a.y.saturating_add(a.h).max(b.y.saturating_add(b.h));
    Rect { x, y, w: right - x, h: bottom - y }
}

/// The part of it that is on the screen.
fn cut(r: Rect, w: u16, h: u16) -> Rect {
    Rect { w: r.w.min(w - r.x), h: r.h.min(h - r.y), ..r }
}
