use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a frame of a recording holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FrameKind {
    /// Output; `data` in base64.
    Output,
    /// Output of the second stream; `data` in base64.
    Error,
    /// Typed and echoed; `data` in base64.
    Input,
    /// Typed and not echoed: `count` characters.
    Hidden,
    /// The terminal has `columns` and `rows`.
    Size,
    /// Something began; `text` says what.
    Opened,
    /// It ended, with status `count` where there was one.
    Closed,
    /// A file was copied; `text` says which.
    File,
    /// A remark in `text`.
    Mark,
    /// Bytes that were not kept; `text` says how many.
    Passed,
}

/// A frame of a recording: one line of the frames' NDJSON.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FrameView {
    /// Milliseconds since the recording began.
    pub at: u64,
    /// Channel.
    pub channel: u32,
    /// What it holds.
    pub kind: FrameKind,
    /// Bytes in base64.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<String>,
    /// Text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
    /// Columns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<u16>,
    /// Rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<u16>,
}
