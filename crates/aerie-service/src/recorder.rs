//! Writes recordings: one thread, so that compressing and encrypting stay off the path of the bytes.

use crate::keys::{Keys, random};
use aerie_core::evidence::hex;
use aerie_core::recording::{
    Armed, Compressor, DataKey, Decoder, Encoder, Frame, Header, Kept, Place, ReadError, Summary, TimedFrame, TypedInput,
};
use bytes::Bytes;
use jiff::Timestamp;
use std::collections::HashMap;
use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use tokio_util::sync::CancellationToken;

/// Messages that wait for the thread at most; beyond, sessions wait. At 32 KiB a packet these are 8 MiB.
const QUEUE: usize = 256;
/// Bytes of a file that are read at a time.
const PIECE: usize = 256 << 10;
/// Longest that stands in front of a recording, with its mark and length.
const LONGEST_HEADER: u64 = 14 + (64 << 10);
/// How often the thread looks for chunks that are due. A chunk is due after a second.
const TICK: Duration = Duration::from_millis(250);

enum Order {
    Begin { id: u64, file: File, places: PathBuf, encoder: Encoder, failed: CancellationToken },
    Output { id: u64, at_ms: u64, channel: u32, bytes: Bytes },
    Typed { id: u64, at_ms: u64, channel: u32, bytes: Bytes },
    Frame { id: u64, at_ms: u64, channel: u32, frame: Frame },
    Whole { id: u64, at_ms: u64, channel: u32, messages: Vec<Vec<u8>> },
    Finish { id: u64, reply: oneshot::Sender<Option<RecordingInfo>> },
}

/// How a recording was closed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordingInfo {
    /// Digest of the chain, hexadecimal.
    pub digest: String,
    /// Milliseconds to the last frame.
    pub length_ms: u64,
}

/// The recorder.
pub(crate) struct Recorder {
    orders: mpsc::Sender<Order>,
    directory: PathBuf,
    keys: Arc<Keys>,
    next: AtomicU64,
    open: Arc<AtomicU64>,
}

/// A recording that is being written.
#[derive(Clone)]
pub(crate) struct Recording {
    id: u64,
    started: Timestamp,
    orders: mpsc::Sender<Order>,
}

/// What a recording is of.
pub(crate) struct About<'a> {
    pub(crate) session: &'a str,
    pub(crate) person: &'a str,
    pub(crate) machine: &'a str,
    pub(crate) account: &'a str,
}

impl Recorder {
    /// Starts the thread.
    pub(crate) fn start(directory: PathBuf, keys: Arc<Keys>) -> std::io::Result<Self> {
        std::fs::create_dir_all(&directory)?;
        let (orders, inbox) = mpsc::channel(QUEUE);
        let compressor = Compressor::new()?;
        let count = Arc::new(AtomicU64::new(0));
        let desk = Desk { compressor, open: HashMap::new(), count: count.clone() };
        std::thread::Builder::new().name("recorder".into()).spawn(move || desk.run(inbox))?;
        Ok(Self { orders, directory, keys, next: 0.into(), open: count })
    }

    /// Whether its thread takes orders.
    pub(crate) fn is_running(&self) -> bool {
        !self.orders.is_closed()
    }

    /// How many recordings are being written.
    pub(crate) fn open(&self) -> u64 {
        self.open.load(Ordering::Relaxed)
    }

    /// Begins a recording. The file has its head, on the disk, when this returns: only then is the recorder armed. `failed` is
    /// cancelled when the recording can no longer be written.
    pub(crate) async fn begin(
        &self,
        about: About<'_>,
        started: Timestamp,
        failed: CancellationToken,
    ) -> std::io::Result<(Recording, Armed, String)> {
        let purpose = Header::purpose(about.session);
        let key: [u8; 32] = random().map_err(std::io::Error::other)?;
        let sealed = self.keys.seal(&key, &purpose).map_err(std::io::Error::other)?;
        let header = Header {
            session: about.session.into(),
            person: about.person.into(),
            machine: about.machine.into(),
            account: about.account.into(),
            started,
            key: hex(&sealed),
        };
        let name = format!("{}.rec", about.session);
        let path = self.directory.join(&name);
        let places = places_of(&path);
        let (encoder, head) = Encoder::new(&header, &DataKey::new(key));
        let file = tokio::task::spawn_blocking(move || -> std::io::Result<File> {
            let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
            file.write_all(&head)?;
            file.sync_all()?;
            Ok(file)
        })
        .await
        .map_err(std::io::Error::other)??;
        let armed = encoder.head_written();
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let recording = Recording { id, started, orders: self.orders.clone() };
        recording.order(Order::Begin { id, file, places, encoder, failed }).await;
        Ok((recording, armed, name))
    }
}

impl Recording {
    async fn order(&self, order: Order) {
        // The thread ends only with the process.
        let _ = self.orders.send(order).await;
    }

    fn at_ms(&self) -> u64 {
        u64::try_from(Timestamp::now().duration_since(self.started).as_millis()).unwrap_or(0)
    }

    /// Output of a terminal, or of a stream.
    pub(crate) async fn output(&self, channel: u32, bytes: Bytes) {
        self.order(Order::Output { id: self.id, at_ms: self.at_ms(), channel, bytes }).await;
    }

    /// Input typed at a terminal; kept as far as it is echoed.
    pub(crate) async fn typed(&self, channel: u32, bytes: Bytes) {
        self.order(Order::Typed { id: self.id, at_ms: self.at_ms(), channel, bytes }).await;
    }

    /// Anything else.
    pub(crate) async fn frame(&self, channel: u32, frame: Frame) {
        self.order(Order::Frame { id: self.id, at_ms: self.at_ms(), channel, frame }).await;
    }

    /// A whole picture of a desktop: a reader may begin here.
    pub(crate) async fn whole(&self, channel: u32, messages: Vec<Vec<u8>>) {
        self.order(Order::Whole { id: self.id, at_ms: self.at_ms(), channel, messages }).await;
    }

    /// Closes the recording. None where it could not be written to its end.
    pub(crate) async fn finish(&self) -> Option<RecordingInfo> {
        let (reply, answer) = oneshot::channel();
        self.order(Order::Finish { id: self.id, reply }).await;
        answer.await.ok().flatten()
    }
}

/// What the thread works on.
struct Desk {
    compressor: Compressor,
    open: HashMap<u64, Writing>,
    count: Arc<AtomicU64>,
}

struct Writing {
    file: File,
    /// Where the list of places is written, once there is one.
    places: PathBuf,
    encoder: Encoder,
    started: std::time::Instant,
    typed: HashMap<u32, TypedInput>,
    failed: CancellationToken,
}

impl Desk {
    fn run(mut self, mut inbox: mpsc::Receiver<Order>) {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_time().build() else { return };
        runtime.block_on(async {
            let mut tick = tokio::time::interval(TICK);
            tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
            loop {
                tokio::select! {
                    biased;
                    order = inbox.recv() => match order {
                        Some(order) => self.handle(order),
                        None => break,
                    },
                    _ = tick.tick(), if !self.open.is_empty() => self.write_due(),
                }
            }
        });
    }

    fn handle(&mut self, order: Order) {
        match order {
            Order::Begin { id, file, places, encoder, failed } => {
                let started = std::time::Instant::now();
                self.count.fetch_add(1, Ordering::Relaxed);
                self.open.insert(id, Writing { file, places, encoder, started, typed: HashMap::new(), failed });
            }
            Order::Output { id, at_ms, channel, bytes } => self.with(id, at_ms, |w| {
                if let Some(typed) = w.typed.get_mut(&channel) {
                    typed.handle_output(&bytes, at_ms);
                    keep(&mut w.encoder, at_ms, channel, typed.poll_kept());
                }
                w.encoder.handle_frame(at_ms, channel, &Frame::Output(bytes.into()));
            }),
            Order::Typed { id, at_ms, channel, bytes } => self.with(id, at_ms, |w| {
                let typed = w.typed.entry(channel).or_default();
                typed.handle_typed(&bytes, at_ms);
                keep(&mut w.encoder, at_ms, channel, typed.poll_kept());
            }),
            Order::Frame { id, at_ms, channel, frame } => self.with(id, at_ms, |w| {
                if matches!(frame, Frame::Closed(_))
                    && let Some(typed) = w.typed.remove(&channel)
                {
                    keep(&mut w.encoder, at_ms, channel, typed.finish());
                }
                w.encoder.handle_frame(at_ms, channel, &frame);
            }),
            Order::Whole { id, at_ms, channel, messages } => {
                let Some(writing) = self.open.get_mut(&id) else { return };
                let before = writing.encoder.begin_whole(&mut self.compressor);
                writing.put(before);
                for message in messages {
                    writing.encoder.handle_frame(at_ms, channel, &Frame::Desktop(message));
                    if writing.encoder.is_due(at_ms) {
                        writing.write(&mut self.compressor);
                    }
                }
            }
            Order::Finish { id, reply } => {
                let writing = self.open.remove(&id);
                self.count.store(self.open.len() as u64, Ordering::Relaxed);
                let closed = writing.and_then(|w| w.close(&mut self.compressor));
                let _ = reply.send(closed);
            }
        }
    }

    fn with(&mut self, id: u64, at_ms: u64, f: impl FnOnce(&mut Writing)) {
        let Some(writing) = self.open.get_mut(&id) else { return };
        f(writing);
        if writing.encoder.is_due(at_ms) {
            writing.write(&mut self.compressor);
        }
    }

    fn write_due(&mut self) {
        for writing in self.open.values_mut() {
            let now_ms = writing.started.elapsed().as_millis() as u64;
            for (channel, typed) in &mut writing.typed {
                typed.handle_timeout(now_ms);
                keep(&mut writing.encoder, now_ms, *channel, typed.poll_kept());
            }
            if writing.encoder.is_due(now_ms) {
                writing.write(&mut self.compressor);
            }
        }
    }
}

fn keep(encoder: &mut Encoder, at_ms: u64, channel: u32, kept: Vec<Kept>) {
    for k in kept {
        let frame = match k {
            Kept::Text(text) => Frame::Input(text),
            Kept::Hidden(n) => Frame::Hidden(n),
        };
        encoder.handle_frame(at_ms, channel, &frame);
    }
}

impl Writing {
    fn write(&mut self, compressor: &mut Compressor) {
        let made = self.encoder.poll_chunk(compressor);
        self.put(made);
    }

    fn put(&mut self, made: std::io::Result<Option<Vec<u8>>>) {
        let done = made.and_then(|chunk| match chunk {
            Some(bytes) => self.file.write_all(&bytes),
            None => Ok(()),
        });
        if let Some(place) = self.encoder.poll_place() {
            Self::list(&self.places, &place);
        }
        if let Err(e) = done {
            tracing::error!(error = %e, "a recording could not be written");
            self.failed.cancel();
        }
    }

    fn list(places: &Path, place: &Place) {
        let mut options = std::fs::OpenOptions::new();
        let opened = options.append(true).create(true).mode(0o600).open(places);
        // Without it a reader looks for itself.
        let _ = opened.and_then(|mut f| f.write_all(&place.encode()));
    }

    fn close(mut self, compressor: &mut Compressor) -> Option<RecordingInfo> {
        if self.failed.is_cancelled() {
            // A hole may be in front of the end: it must not read as complete.
            return None;
        }
        let sealed = self.encoder.finish(compressor).ok()?;
        if let Some(place) = &sealed.place {
            Self::list(&self.places, place);
        }
        self.file.write_all(&sealed.bytes).and_then(|()| self.file.sync_all()).ok()?;
        Some(RecordingInfo { digest: hex(&sealed.digest), length_ms: sealed.length_ms })
    }
}

/// Who read which recording lately. Whoever watches one reads it in many pieces, which are one reading.
#[derive(Debug, Default)]
pub(crate) struct RecentReads(std::sync::Mutex<HashMap<(String, String), Timestamp>>);

/// After so long it is another reading.
const ONE_READING: jiff::SignedDuration = jiff::SignedDuration::from_mins(10);
/// Readings that are remembered.
const MOST_READINGS: usize = 10_000;

impl RecentReads {
    /// Whether this begins a reading.
    pub(crate) fn begins(&self, person: &str, recording: &str, now: Timestamp) -> bool {
        let mut all = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if all.len() >= MOST_READINGS {
            all.retain(|_, at| now.duration_since(*at) < ONE_READING);
            if all.len() >= MOST_READINGS {
                all.clear();
            }
        }
        let last = all.insert((person.into(), recording.into()), now);
        last.is_none_or(|at| now.duration_since(at) >= ONE_READING || now < at)
    }
}

/// Where the places of a recording are listed.
pub(crate) fn places_of(recording: &Path) -> PathBuf {
    recording.with_extension("places")
}

/// Reads a recording from its file, frame by frame, and says how far it reads. Stops early when `each` returns false.
///
/// # Errors
/// When the file cannot be read, or is not what was written.
pub fn read_recording(path: &Path, keys: &Keys, mut each: impl FnMut(TimedFrame) -> bool) -> Result<Summary, ReadFault> {
    let (mut file, mut decoder) = begin(path, keys)?;
    frames(&mut file, &mut decoder, &mut each)
}

/// Reads a recording from the last whole picture before a moment on, in milliseconds; where there is none, from its beginning.
///
/// # Errors
/// As [`read_recording`].
pub fn read_from(path: &Path, keys: &Keys, at_ms: u64, mut each: impl FnMut(TimedFrame) -> bool) -> Result<Summary, ReadFault> {
    let (mut file, mut decoder) = begin(path, keys)?;
    let places = Place::decode_all(&std::fs::read(places_of(path)).unwrap_or_default());
    if let Some(place) = Place::before(&places, at_ms) {
        decoder.begin_at(&place);
        file.seek(SeekFrom::Start(place.offset))?;
        let mut began = false;
        let tried = frames(&mut file, &mut decoder, &mut |f| {
            began = true;
            each(f)
        });
        match tried {
            // The list is not of this recording: it is read from its beginning.
            Err(ReadFault::Content(_)) if !began => (file, decoder) = begin(path, keys)?,
            other => return other,
        }
    }
    frames(&mut file, &mut decoder, &mut each)
}

/// What stands in front of a recording.
///
/// # Errors
/// As [`read_recording`].
pub(crate) fn header_of(path: &Path) -> Result<Header, ReadFault> {
    let mut head = vec![];
    File::open(path)?.take(LONGEST_HEADER).read_to_end(&mut head)?;
    Ok(Decoder::header(&head)?.ok_or(ReadError::Header)?.0)
}

fn begin(path: &Path, keys: &Keys) -> Result<(File, Decoder), ReadFault> {
    let mut file = File::open(path)?;
    let mut piece = vec![0; PIECE];
    let mut head = vec![];
    loop {
        let n = file.read(&mut piece)?;
        head.extend_from_slice(piece.get(..n).unwrap_or(&[]));
        if n == 0 || Decoder::header(&head)?.is_some() {
            return Ok((file, Decoder::new(&head, |h| keys.try_secrets(|k| h.data_key(k)))?));
        }
    }
}

fn frames(file: &mut File, decoder: &mut Decoder, each: &mut dyn FnMut(TimedFrame) -> bool) -> Result<Summary, ReadFault> {
    let mut piece = vec![0; PIECE];
    loop {
        while let Some(chunk) = decoder.poll_chunk()? {
            for frame in chunk.frames {
                if !each(frame) {
                    return Ok(decoder.summary());
                }
            }
        }
        let n = file.read(&mut piece)?;
        if n == 0 {
            return Ok(decoder.summary());
        }
        decoder.handle_bytes(piece.get(..n).unwrap_or(&[]));
    }
}

/// Why a recording cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ReadFault {
    /// The file.
    #[error("the file of the recording: {0}")]
    File(#[from] std::io::Error),
    /// Its content.
    #[error(transparent)]
    Content(#[from] ReadError),
}

#[cfg(test)]
mod tests {
    use super::*;

    fn recorder() -> (tempfile::TempDir, Recorder, Arc<Keys>) {
        let dir = tempfile::tempdir().unwrap();
        let keys = Arc::new(Keys::load(dir.path()).unwrap());
        let recorder = Recorder::start(dir.path().join("recordings"), keys.clone()).unwrap();
        (dir, recorder, keys)
    }

    const ABOUT: About<'static> = About { session: "s-1", person: "ines", machine: "dome", account: "operator" };

    #[tokio::test]
    async fn a_recording_is_written_closed_and_reads_with_its_digest() {
        let (dir, recorder, keys) = recorder();
        let (recording, _armed, name) = recorder.begin(ABOUT, Timestamp::now(), CancellationToken::new()).await.unwrap();
        recording.typed(1, Bytes::from_static(b"l")).await;
        recording.output(1, Bytes::from_static(b"l")).await;
        recording.output(1, Bytes::from_static(b"\r\nPassword: ")).await;
        recording.typed(1, Bytes::from_static(b"secret")).await;
        recording.frame(1, Frame::Closed(Some(0))).await;
        let info = recording.finish().await.unwrap();
        let mut frames = vec![];
        let summary = read_recording(&dir.path().join("recordings").join(name), &keys, |f| {
            frames.push(f.frame);
            true
        })
        .unwrap();
        let output = |text: &[u8]| Frame::Output(text.to_vec());
        assert_eq!(
            frames,
            [Frame::Input(b"l".to_vec()), output(b"l"), output(b"\r\nPassword: "), Frame::Hidden(6), Frame::Closed(Some(0))]
        );
        assert!(summary.complete);
        assert_eq!(summary.digest, info.digest);
    }

    #[tokio::test]
    async fn no_room_for_the_head_is_no_recording() {
        let (_dir, recorder, _) = recorder();
        recorder.begin(ABOUT, Timestamp::now(), CancellationToken::new()).await.unwrap();
        assert!(recorder.begin(ABOUT, Timestamp::now(), CancellationToken::new()).await.is_err(), "a second of the same name");
    }

    #[tokio::test]
    async fn a_full_disk_tells_the_session_and_never_reads_as_complete() {
        let (dir, _, keys) = recorder();
        let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let header = Header {
            session: "s".into(),
            person: "p".into(),
            machine: "m".into(),
            account: "a".into(),
            started: Timestamp::now(),
            key: String::new(),
        };
        let (mut encoder, _) = Encoder::new(&header, &DataKey::new([0; 32]));
        encoder.handle_frame(0, 1, &Frame::Output(vec![1; 100]));
        let failed = CancellationToken::new();
        let mut compressor = Compressor::new().unwrap();
        let mut writing = Writing {
            file: full,
            places: dir.path().join("p"),
            encoder,
            started: std::time::Instant::now(),
            typed: HashMap::new(),
            failed: failed.clone(),
        };
        writing.write(&mut compressor);
        assert!(failed.is_cancelled());
        assert!(writing.close(&mut compressor).is_none());
        drop((dir, keys));
    }
}
