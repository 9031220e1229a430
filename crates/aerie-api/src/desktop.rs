//! What a viewer of a desktop and the service say to each other over a WebSocket. Texts are JSON of these shapes; binary messages, from the
//! service alone, are the picture (docs/formats/desktop.md).

use crate::PeopleThere;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which desktop is opened.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
pub struct DesktopQuery {
    /// Name of the way, where the machine has several desktops.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub way: Option<String>,
}

/// Which part of a recorded desktop.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
pub struct ScreenQuery {
    /// From this moment on, in milliseconds since the beginning.
    #[serde(default)]
    pub from: u64,
    /// Until this moment.
    #[serde(default = "for_ever")]
    pub until: u64,
}

fn for_ever() -> u64 {
    u64::MAX
}

/// A stretch of a recorded desktop that begins with a whole picture.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StretchView {
    /// Milliseconds since the beginning.
    pub at: u64,
    /// Bytes of the recording until the next: how much happened.
    pub bytes: u64,
}

/// A film of a recorded desktop: being made, or made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FilmView {
    /// `none`, `waiting`, `done` or `failed`.
    pub state: String,
    /// Milliseconds of the recording that are in it.
    pub reached: i64,
    /// Of so many.
    pub length: i64,
    /// Why it failed.
    pub failure: String,
}

/// Which picture of a recorded desktop.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
pub struct PictureQuery {
    /// The moment, in milliseconds since the beginning.
    #[serde(default)]
    pub at: u64,
    /// Made smaller, to so many pixels of width.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub width: Option<u16>,
}

/// What a viewer says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FromViewer {
    /// First of all, where the session begins: why, and for which ticket.
    Begin {
        /// Why, where the rules ask.
        #[serde(default)]
        reason: String,
        /// Ticket, where the rules ask.
        #[serde(default)]
        ticket: String,
    },
    /// The picture of this number is drawn.
    Drawn(u64),
    /// A key, by its keysym, is pressed (true) or released.
    Key(u32, bool),
    /// Where the pointer is, and which buttons are pressed.
    At(u16, u16, u8),
    /// Asks for a further capability: `control`, `clipboard-in`, `clipboard-out`.
    Ask(String),
    /// Gives one back.
    GiveBack(String),
    /// Text for the machine's clipboard.
    Paste(String),
    /// Says something to the others.
    Say(String),
    /// Writes a note into the recording.
    Note(String),
    /// Draws a line over the screen for the others; without points, wipes what was drawn.
    Line(Vec<(u16, u16)>),
    /// Asks for the whole picture.
    Refresh,
    /// Asks for an answer with this number, to measure the way.
    Ping(u64),
    /// How exactly colours are sent: `exact` or `few`.
    Quality(String),
    /// Ends the session.
    Leave,
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum ToViewer {
    /// What is being done, or waited for.
    Step {
        /// A phrase.
        text: String,
    },
    /// It does not begin, or something is not allowed.
    Refused {
        /// Which capability; none for the session itself.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        capability: Option<String>,
        /// A sentence.
        text: String,
    },
    /// The session is there.
    Began {
        /// Its identifier.
        session: String,
        /// Machine.
        machine: String,
        /// Account.
        account: String,
        /// How the desktop calls itself.
        title: String,
        /// Whose session it is.
        person: String,
        /// Whether it is recorded.
        recorded: bool,
        /// When it began.
        #[schema(value_type = String, format = DateTime)]
        began: Timestamp,
        /// Whether this viewer's own session it is, or somebody else's.
        own: bool,
    },
    /// What it may be used for.
    Uses {
        /// Each capability with `on`, `asked`, `at-once` (would be given without asking anybody), `ask` (somebody is asked) or `refused`.
        uses: Vec<(String, String)>,
    },
    /// Something that the service tells.
    Notice {
        /// A sentence.
        text: String,
    },
    /// Those who take part.
    People {
        /// They.
        people: PeopleThere,
    },
    /// Text from the machine's clipboard.
    Clipboard {
        /// It.
        text: String,
    },
    /// The answer to a ping.
    Pong {
        /// Its number.
        number: u64,
    },
    /// Another window of the same person has it now.
    Elsewhere,
    /// It is over.
    Ended {
        /// A sentence.
        text: String,
    },
}
