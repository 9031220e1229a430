//! Somebody who looks at a desktop.

use super::screen::Screen;
use super::until;
use aerie_api::{DesktopQuery, FromViewer, ToViewer};
use aerie_client::{Client, DesktopLink, FromService};
use aerie_core::desktop::{Framebuffer, Message, Rect, Saying};

/// What they see, and what they were told.
pub struct Viewer {
    pub link: DesktopLink,
    pub screen: Framebuffer,
    pub told: Vec<ToViewer>,
    pub said: Vec<(Saying, String, String)>,
    /// Where the pointer was seen last, and how often the picture changed.
    pub at: Option<(u16, u16)>,
    pub changes: u32,
    /// Where the single screens are, of several.
    pub screens: Vec<Rect>,
}

impl Viewer {
    pub fn of(link: DesktopLink) -> Self {
        Self { link, screen: Framebuffer::new(1, 1).unwrap(), told: vec![], said: vec![], at: None, changes: 0, screens: vec![] }
    }

    pub async fn open(client: &Client, machine: &str) -> Self {
        let mut viewer = Self::of(client.desktop(machine, &DesktopQuery::default()).await.unwrap());
        viewer.say(FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
        viewer
    }

    pub async fn say(&mut self, what: FromViewer) {
        assert!(self.link.say(&what).await);
    }

    /// Takes one thing; false when the service is gone.
    pub async fn step(&mut self) -> bool {
        match self.link.next().await {
            None => return false,
            Some(FromService::Told(told)) => self.told.push(told),
            Some(FromService::Picture(_, message, _)) => {
                self.screen.show(&message).unwrap();
                match message {
                    Message::Said { saying, who, text } => self.said.push((saying, who, text)),
                    Message::At { x, y, .. } => self.at = Some((x, y)),
                    Message::Parts(_) => self.changes += 1,
                    Message::Screens(screens) => self.screens = screens,
                    _ => {}
                }
            }
        }
        true
    }

    pub async fn until(&mut self, what: &str, mut good: impl FnMut(&Self) -> bool) {
        let waiting = async {
            while !good(self) {
                assert!(self.step().await, "the service went away before: {what}; it said {:?}", self.told);
            }
        };
        let came = tokio::time::timeout(std::time::Duration::from_secs(30), waiting).await;
        assert!(came.is_ok(), "never came: {what}; the service said {:?}", self.told);
    }

    pub async fn began(&mut self) -> String {
        self.until("the beginning", |v| v.session().is_some() && v.screen.size() != (1, 1)).await;
        self.session().unwrap()
    }

    pub fn session(&self) -> Option<String> {
        self.told.iter().find_map(|t| if let ToViewer::Began { session, .. } = t { Some(session.clone()) } else { None })
    }

    pub fn state(&self, capability: &str) -> Option<&str> {
        let uses = self.told.iter().rev().find_map(|t| if let ToViewer::Uses { uses } = t { Some(uses) } else { None })?;
        uses.iter().find(|(c, _)| c == capability).map(|(_, s)| s.as_str())
    }

    pub async fn take(&mut self, capability: &str) {
        self.say(FromViewer::Ask(capability.into())).await;
        self.until(capability, |v| v.state(capability) == Some("on")).await;
    }

    /// Types into the window at the top left.
    pub async fn types(&mut self, text: &str) {
        self.say(FromViewer::At(100, 100, 0)).await;
        for c in text.chars() {
            let keysym = if c == '\n' { 0xff0d } else { u32::from(c) };
            self.say(FromViewer::Key(keysym, true)).await;
            self.say(FromViewer::Key(keysym, false)).await;
        }
    }

    pub async fn ended(&mut self) -> String {
        self.until("the end", |v| v.end().is_some()).await;
        self.end().unwrap()
    }

    pub fn end(&self) -> Option<String> {
        self.told.iter().find_map(|t| match t {
            ToViewer::Ended { text } | ToViewer::Refused { capability: None, text } => Some(text.clone()),
            ToViewer::Elsewhere => Some("elsewhere".into()),
            _ => None,
        })
    }

    pub fn rgb(&self) -> Vec<u8> {
        self.screen.pixels().chunks_exact(4).flat_map(|p| [p[0], p[1], p[2]]).collect()
    }

    /// Looks until there are the two screens of [`Screen::split`].
    pub async fn two_screens(&mut self) {
        let left = Rect { x: 0, y: 0, w: 320, h: 240 };
        self.until("two screens", |v| v.screens == [left, Rect { x: 320, ..left }] && v.screen.size() == (640, 240)).await;
    }

    /// The same with the pointer on the screen moved from here. Until somebody does, the server draws it into the picture.
    pub async fn ready(&mut self, screen: &Screen) {
        self.say(FromViewer::At(100, 100, 0)).await;
        self.same_as(screen).await;
    }

    /// Pastes a line into the terminal on it, with the middle button.
    pub async fn pastes(&mut self, screen: &Screen) {
        self.ready(screen).await;
        self.say(FromViewer::At(100, 100, 0)).await;
        self.say(FromViewer::At(100, 100, 2)).await;
        let before = self.changes;
        self.say(FromViewer::At(100, 100, 0)).await;
        self.until("what was pasted, on the screen", |v| v.changes > before).await;
        self.types("\n").await;
    }

    /// Looks until it shows what the screen really shows.
    pub async fn same_as(&mut self, screen: &Screen) {
        let waiting = async {
            loop {
                let (w, h, pixels) = screen.dump();
                if (u32::from(self.screen.size().0), u32::from(self.screen.size().1)) == (w, h) && self.rgb() == pixels {
                    return;
                }
                // Something is on its way, or it blinks: looked at again.
                let _ = tokio::time::timeout(std::time::Duration::from_millis(300), self.step()).await;
            }
        };
        if tokio::time::timeout(std::time::Duration::from_secs(30), waiting).await.is_err() {
            let (w, h, pixels) = screen.dump();
            let mine = self.rgb();
            let differs =
                pixels.chunks(3).zip(mine.chunks(3)).enumerate().filter(|(_, (a, b))| a != b).map(|(n, _)| (n as u32 % w, n as u32 / w));
            let places: Vec<_> = differs.collect();
            panic!(
                "it never showed the very pixels of {w} × {h}: {} differ, first and last at {:?} {:?}",
                places.len(),
                places.first(),
                places.last()
            );
        }
    }
}

/// What was typed into a terminal that keeps one line in a file.
pub async fn line_in(file: &std::path::Path) -> String {
    until("a line that was typed", async || std::fs::read_to_string(file).ok().filter(|t| t.ends_with('\n'))).await
}

pub fn keeps_a_line(file: &std::path::Path) -> String {
    format!(
        "stty -echo; printf '\\033[?25l'; echo ready; read line; echo \"$line\" > {0}.part; mv {0}.part {0}; echo done; sleep 1000",
        file.display()
    )
}
