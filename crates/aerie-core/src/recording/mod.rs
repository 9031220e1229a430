//! The recording container: write, read, verify, search, render.
//!
//! A recording is a header and a chain of chunks. Each chunk is compressed (zstd), encrypted (XChaCha20-Poly1305 under a
//! key of the recording's own) and bound to the one before it by hash. Whatever was written before a crash reads; the last
//! chunk says that the recording is complete. The format is described byte by byte in docs/formats/recording.md.

mod decoder;
mod drawn;
mod encoder;
mod frame;
mod header;
mod place;
mod plain;
mod typed;

pub use decoder::{Chunk, Decoder, ReadError, Summary, TimedFrame};
pub use drawn::TerminalFilter;
pub use encoder::{Armed, Compressor, Encoder, Sealed};
pub use frame::{Frame, Opened, Transfer};
pub use header::{DataKey, Header, MasterKey};
pub use place::Place;
pub use plain::{PlainText, commands_in};
pub use typed::{Kept, TypedInput};

#[cfg(test)]
mod tests;
