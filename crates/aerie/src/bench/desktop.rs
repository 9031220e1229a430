//! Desktops: decoding, the way from a key to the picture in a browser, bytes to the browser and to the disk against the server's own best
//! coding, many at a time, and finding a moment in ten hours.

use super::activity::{Activity, Going, SCROLLING, begin};
use super::served::{CONSOLE_SECRET, Served, cpu_seconds, free_port, machine, serve};
use super::{Figure, Outcome, median};
use aerie::demo::browser::Browser;
use aerie_api::{DesktopQuery, FromViewer, ToViewer};
use aerie_client::{DesktopLink, FromService};
use aerie_core::desktop::{Coding, Damage, Event, Framebuffer, Message, Options, Painter, Rect, RfbClient};
use aerie_core::recording::{Compressor, DataKey, Encoder, Frame, Header, Place};
use aerie_lab::XScreen;
use aerie_service::{Keys, read_from};
use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;

/// Whole pictures that are decoded.
const PICTURES: usize = 60;
/// Keys whose way is measured.
const KEYS: usize = 60;
/// How long a busy screen is carried.
const SPAN: Duration = Duration::from_secs(30);
/// Sessions at a time.
const MANY: usize = 20;
/// Ten hours, with a whole picture every ten seconds.
const HOURS: u64 = 10;
/// A screen that changes a line five times a second.
const QUIET: &str = "n=0; while :; do printf '\\033[H frame %d ' $n; n=$((n+1)); sleep 0.2; done";

/// An X server.
struct Screen {
    at: SocketAddr,
    screen: XScreen,
}

impl Screen {
    fn empty() -> Outcome<Self> {
        let at = free_port()?;
        let port = at.port().to_string();
        let arguments =
            ["-geometry", "1280x800", "-depth", "24", "-localhost=1", "-SecurityTypes", "None", "-AlwaysShared", "-rfbport", &port];
        Ok(Self { at, screen: XScreen::start("Xtigervnc", &arguments)? })
    }

    /// With a terminal that fills it.
    fn start(script: &str) -> Outcome<Self> {
        let mut screen = Self::empty()?;
        screen.screen.terminal("200x58+0+0", &[], script)?;
        Ok(screen)
    }

    /// With something that goes on.
    fn busy(what: Activity) -> Outcome<(Self, Going)> {
        let mut screen = Self::empty()?;
        let going = begin(what, &mut screen.screen)?;
        Ok((screen, going))
    }
}

pub(super) fn figures() -> Outcome<Vec<Figure>> {
    let mut found = vec![decoded(Coding::Zrle)?, decoded(Coding::Tight)?];
    let runtime = tokio::runtime::Runtime::new()?;
    for what in Activity::ALL {
        found.extend(runtime.block_on(carried(what))?);
    }
    found.extend(runtime.block_on(typed())?);
    found.extend(runtime.block_on(many())?);
    found.push(sought()?);
    Ok(found)
}

/// What one core decodes of whole pictures of a full terminal.
fn decoded(coding: Coding) -> Outcome<Figure> {
    let screen = Screen::start(SCROLLING)?;
    std::thread::sleep(Duration::from_secs(4));
    let options = || Options { password: None, shared: true, only: Some(coding) };
    let mut stream = TcpStream::connect(screen.at)?;
    let (mut client, mut kept, mut pictures) = (RfbClient::new(options()), vec![], 0);
    let mut piece = vec![0; 64 << 10];
    while pictures < PICTURES {
        while let Some(bytes) = client.poll_transmit() {
            stream.write_all(&bytes)?;
        }
        let n = stream.read(&mut piece)?;
        let bytes = piece.get(..n).unwrap_or_default();
        kept.extend_from_slice(bytes);
        client.handle_bytes(bytes)?;
        while let Some(event) = client.poll_event() {
            if matches!(event, Event::Updated(_)) {
                pictures += 1;
                client.ask(true);
            }
        }
    }
    let mut runs = vec![];
    for _ in 0..5 {
        let mut again = RfbClient::new(options());
        let (began, mut pixels) = (Instant::now(), 0);
        for bytes in kept.chunks(64 << 10) {
            again.handle_bytes(bytes)?;
            while let Some(event) = again.poll_event() {
                if let Event::Updated(damage) = event {
                    pixels += damage.iter().map(|d| if let Damage::Pixels(r) = d { r.area() } else { 0 }).sum::<usize>();
                }
            }
            while again.poll_transmit().is_some() {}
        }
        runs.push(pixels as f64 * 4.0 / 1e6 / began.elapsed().as_secs_f64());
    }
    let speed = median(runs);
    let name = if coding == Coding::Zrle { "decoding ZRLE, one core" } else { "decoding Tight, one core" };
    Ok(Figure::alone(name, "MB/s of pixels", speed, "at least 200 (ZRLE)", speed >= 200.0, 5))
}

/// A relay that counts what the server sends.
async fn counted(to: SocketAddr) -> Outcome<(SocketAddr, Arc<AtomicU64>)> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let (at, bytes) = (listener.local_addr()?, Arc::new(AtomicU64::new(0)));
    let count = bytes.clone();
    tokio::spawn(async move {
        while let Ok((near, _)) = listener.accept().await {
            let Ok(far) = tokio::net::TcpStream::connect(to).await else { continue };
            let (_, _) = (near.set_nodelay(true), far.set_nodelay(true));
            let count = count.clone();
            tokio::spawn(async move {
                let ((mut near_in, mut near_out), (mut far_in, mut far_out)) = (near.into_split(), far.into_split());
                let up = async { tokio::io::copy(&mut near_in, &mut far_out).await };
                let down = async {
                    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
                    let mut piece = vec![0; 64 << 10];
                    while let Ok(n @ 1..) = far_in.read(&mut piece).await {
                        count.fetch_add(n as u64, Ordering::Relaxed);
                        if near_out.write_all(piece.get(..n).unwrap_or_default()).await.is_err() {
                            break;
                        }
                    }
                };
                tokio::join!(up, down)
            });
        }
    });
    Ok((at, bytes))
}

async fn served(machines: Vec<(String, SocketAddr)>) -> Outcome<Served> {
    let machines = machines
        .into_iter()
        .map(|(name, at)| {
            machine(&name, serde_json::json!({ "ways": [{ "name": "screen", "kind": "desktop", "address": at.to_string() }] }))
        })
        .collect::<Outcome<Vec<_>>>()?;
    let directory = tempfile::Builder::new().prefix("aerie-bench-").tempdir()?;
    Ok(tokio::task::spawn_blocking(move || serve(directory, machines, &[], None).map_err(|e| e.to_string())).await??)
}

async fn open(served: &Served, machine: &str) -> Outcome<(DesktopLink, String)> {
    let mut link = served.client.desktop(machine, &DesktopQuery::default()).await?;
    link.say(&FromViewer::Begin { reason: String::new(), ticket: String::new() }).await;
    loop {
        match link.next().await.ok_or("the service went away")? {
            FromService::Told(ToViewer::Began { session, .. }) => return Ok((link, session)),
            FromService::Told(ToViewer::Refused { text, .. }) => return Err(text.into()),
            _ => {}
        }
    }
}

/// One busy desktop: bytes each way and to the disk.
async fn carried(what: Activity) -> Outcome<Vec<Figure>> {
    let (screen, _going) = Screen::busy(what)?;
    let (at, from_server) = counted(screen.at).await?;
    let served = served(vec![("busy".into(), at)]).await?;
    let (mut link, session) = open(&served, "busy").await?;
    let (began, cpu) = (Instant::now(), cpu_seconds(served.child.id())?);
    let (mut to_browser, mut updates) = (0u64, 0u64);
    while began.elapsed() < SPAN {
        let Ok(next) = tokio::time::timeout(Duration::from_secs(2), link.next()).await else { continue };
        if let FromService::Picture(_, message, bytes) = next.ok_or("the service went away")? {
            to_browser += bytes as u64;
            updates += u64::from(matches!(message, Message::Parts(_)));
        }
    }
    let cpu = (cpu_seconds(served.child.id())? - cpu) / began.elapsed().as_secs_f64() * 100.0;
    link.say(&FromViewer::Leave).await;
    while link.next().await.is_some() {}
    let file = served.directory.path().join("data/recordings").join(format!("{session}.rec"));
    tokio::time::sleep(Duration::from_secs(2)).await;
    let (recorded, tight) = (std::fs::metadata(file)?.len() as f64, from_server.load(Ordering::Relaxed) as f64);
    let to_browser = to_browser as f64;
    let updates = updates as f64 / SPAN.as_secs_f64();
    Ok(vec![
        Figure::alone(what.name(), "/s", updates, "(stated)", true, 1),
        Figure::beside(
            "the same: kB/s to the browser, against Tight of the server",
            "kB/s",
            to_browser / 1e3 / SPAN.as_secs_f64(),
            tight / 1e3 / SPAN.as_secs_f64(),
            "at most 1.2 times",
            |r| r <= 1.2,
            1,
        ),
        Figure::beside(
            "the same: recording, against Tight of the server",
            "kB/s",
            recorded / 1e3 / SPAN.as_secs_f64(),
            tight / 1e3 / SPAN.as_secs_f64(),
            "at most 1.0 times",
            |r| r <= 1.0,
            1,
        ),
        Figure::alone("the same: the whole service, recording with it", "% of a core", cpu, "recording at most 10", cpu <= 10.0, 1),
    ])
}

/// From a key pressed in the page to its picture on the page's canvas: the machine's own echo is a part of it.
async fn typed() -> Outcome<Vec<Figure>> {
    let typing = Screen::start("cat")?;
    let served = served(vec![("typing".into(), typing.at)]).await?;
    let Some(browser) = Browser::start(true).await.map_err(|e| e.message)? else {
        return Err("chromium-driver is not installed (`make packages`)".into());
    };
    let failed = |e: aerie::Failure| e.message;
    let base = format!("https://localhost:{}", served.https.port());
    browser.goto(&format!("{base}/sign-in")).await.map_err(failed)?;
    browser.cookie("__Host-aerie", CONSOLE_SECRET).await.map_err(failed)?;
    browser.goto(&format!("{base}/machines/typing/desktop")).await.map_err(failed)?;
    browser.says("[data-testid=desktop-sentence]", "You control typing").await.map_err(failed)?;
    let begin = format!(
        "const put = CanvasRenderingContext2D.prototype.putImageData; let painted; window.took = [];
        CanvasRenderingContext2D.prototype.putImageData = function (...a) {{ put.apply(this, a); const p = painted; painted = undefined; if (p) p(performance.now()); }};
        const keys = document.querySelector('[data-testid=desktop-keys]'), box = document.querySelector('[data-testid=desktop]').getBoundingClientRect();
        const at = {{ clientX: box.left + box.width / 3, clientY: box.top + box.height / 3, pointerType: 'mouse', bubbles: true }};
        document.querySelector('[data-testid=desktop]').dispatchEvent(new PointerEvent('pointermove', at));
        (async () => {{ await new Promise(r => setTimeout(r, 1500));
          for (let n = 0; n < {KEYS}; n++) {{ const key = 'abcdefghij'[n % 10], t = performance.now();
            const done = new Promise(r => {{ painted = r; setTimeout(() => r(NaN), 1000); }});
            for (const type of ['keydown', 'keyup']) keys.dispatchEvent(new KeyboardEvent(type, {{ key, code: 'Key' + key.toUpperCase(), bubbles: true, cancelable: true }}));
            took.push(await done - t); await new Promise(r => setTimeout(r, 60)); }} window.finished = true; }})();"
    );
    browser.run(&begin).await.map_err(failed)?;
    let waiting = async {
        while browser.run("return window.finished === true").await.map_err(failed)?.as_bool() != Some(true) {
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        Ok::<_, String>(())
    };
    tokio::time::timeout(Duration::from_secs(60), waiting).await??;
    let took = browser.run("return took").await.map_err(failed)?;
    browser.quit().await;
    let mut took: Vec<f64> = took.as_array().into_iter().flatten().filter_map(serde_json::Value::as_f64).collect();
    took.sort_by(f64::total_cmp);
    if took.len() < KEYS / 2 {
        return Err(format!("only {} of {KEYS} keys were seen", took.len()).into());
    }
    let p95 = took.get(took.len() * 95 / 100).copied().unwrap_or(f64::NAN);
    let middle = median(took.clone());
    Ok(vec![
        Figure::alone(
            "from a key in the page to its picture on the canvas, median",
            "ms",
            middle,
            "at most 40",
            middle <= 40.0,
            took.len(),
        ),
        Figure::alone("the same, p95", "ms", p95, "at most 80", p95 <= 80.0, took.len()),
    ])
}

/// Many desktops at a time.
async fn many() -> Outcome<Vec<Figure>> {
    let screens = (0..MANY).map(|_| Screen::start(QUIET)).collect::<Outcome<Vec<_>>>()?;
    let served = served(screens.iter().enumerate().map(|(n, s)| (format!("panel-{n}"), s.at)).collect()).await?;
    let mut links = vec![];
    for n in 0..MANY {
        links.push(open(&served, &format!("panel-{n}")).await?.0);
    }
    let cpu = cpu_seconds(served.child.id())?;
    let began = Instant::now();
    let each = links.into_iter().map(|mut link| {
        tokio::spawn(async move {
            let mut updates = 0u64;
            while began.elapsed() < SPAN {
                match tokio::time::timeout(Duration::from_secs(1), link.next()).await {
                    Ok(Some(FromService::Picture(_, Message::Parts(_), _))) => updates += 1,
                    Ok(Some(_)) | Err(_) => {}
                    Ok(None) => break,
                }
            }
            updates as f64 / SPAN.as_secs_f64()
        })
    });
    let mut rates = vec![];
    for task in each.collect::<Vec<_>>() {
        rates.push(task.await?);
    }
    let cpu = (cpu_seconds(served.child.id())? - cpu) / SPAN.as_secs_f64() * 100.0;
    let least = rates.iter().copied().fold(f64::INFINITY, f64::min);
    Ok(vec![
        Figure::alone(
            "20 live desktops that change 5 times a second: the slowest of them",
            "updates/s",
            least,
            "does not fall behind",
            least >= 4.5,
            MANY,
        ),
        Figure::alone("the same: the whole service", "% of a core", cpu, "(stated)", true, 1),
    ])
}

/// From the wish for a moment of ten hours to the picture of it.
fn sought() -> Outcome<Figure> {
    let directory = tempfile::tempdir()?;
    let keys = Keys::load(directory.path())?;
    let secret = [5u8; 32];
    let sealed = keys.seal(&secret, &Header::purpose("long"))?;
    let header = Header {
        session: "long".into(),
        person: "runner".into(),
        machine: "busy".into(),
        account: "operator".into(),
        started: jiff::Timestamp::now(),
        key: aerie_core::evidence::hex(&sealed),
    };
    let (mut encoder, mut bytes) = Encoder::new(&header, &DataKey::new(secret));
    let (mut compressor, mut places) = (Compressor::new()?, vec![]);
    let picture = Framebuffer::new(1280, 800)?;
    let (mut painter, _) = Painter::new(1280, 800)?;
    painter.update(&picture, &[Damage::Pixels(Rect { x: 0, y: 0, w: 1280, h: 800 })]);
    let noise: Vec<u8> = (0..60_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    for stretch in 0..HOURS * 360 {
        bytes.extend(encoder.begin_whole(&mut compressor)?.unwrap_or_default());
        for message in painter.whole() {
            encoder.handle_frame(stretch * 10_000, 0, &Frame::Desktop(message.encode()));
        }
        for second in 1..10 {
            let said = Message::Shape { size: (120, 125), hot: (0, 0), pixels: noise.clone() };
            encoder.handle_frame(stretch * 10_000 + second * 1000, 0, &Frame::Desktop(said.encode()));
            bytes.extend(encoder.poll_chunk(&mut compressor)?.unwrap_or_default());
            places.extend(encoder.poll_place());
        }
    }
    let sealed = encoder.finish(&mut compressor)?;
    bytes.extend(sealed.bytes);
    let path = directory.path().join("long.rec");
    std::fs::write(&path, &bytes)?;
    std::fs::write(path.with_extension("places"), places.iter().flat_map(Place::encode).collect::<Vec<_>>())?;
    let mut took = vec![];
    for n in 0..50u64 {
        let wanted = (n * 7_919_000) % (HOURS * 3_600_000);
        let (began, mut shown) = (Instant::now(), Framebuffer::new(1, 1)?);
        read_from(&path, &keys, wanted, |f| {
            if f.at_ms > wanted {
                return false;
            }
            if let Frame::Desktop(message) = f.frame
                && let Some(message) = Message::decode(&message)
            {
                let _ = shown.show(&message);
            }
            true
        })?;
        took.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    let worst = took.iter().copied().fold(0.0, f64::max);
    Ok(Figure::alone("any moment of ten hours (GB on disk apart), the slowest of 50", "ms", worst, "under 200", worst < 200.0, 50))
}
