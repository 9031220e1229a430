use super::*;
use crate::evidence::hex;
use flate2::{Compress, Compression, FlushCompress};
use proptest::prelude::*;
use sha2::{Digest as _, Sha256};
use zeroize::Zeroizing;

/// A picture of a few colours, row after row.
#[derive(Debug, Clone)]
struct Picture {
    w: u16,
    h: u16,
    pixels: Vec<[u8; 3]>,
}

impl Picture {
    fn part(&self, r: Rect) -> Vec<[u8; 3]> {
        let at = |x: u16, y: u16| self.pixels[usize::from(y) * usize::from(self.w) + usize::from(x)];
        (r.y..r.y + r.h).flat_map(|y| (r.x..r.x + r.w).map(move |x| at(x, y))).collect()
    }

    fn whole(&self) -> Rect {
        Rect { x: 0, y: 0, w: self.w, h: self.h }
    }

    fn tiles(&self, side: u16) -> Vec<Rect> {
        let starts = |most: u16| (0..most).step_by(usize::from(side));
        let tile = |x, y| Rect { x, y, w: side.min(self.w - x), h: side.min(self.h - y) };
        starts(self.h).flat_map(|y| starts(self.w).map(move |x| tile(x, y))).collect()
    }
}

fn picture(colours: u8) -> impl Strategy<Value = Picture> {
    (1u16..80, 1u16..70).prop_flat_map(move |(w, h)| {
        let pixel = (0..colours).prop_map(|n| [n.wrapping_mul(37), n, 255 - n]);
        prop::collection::vec(pixel, usize::from(w) * usize::from(h)).prop_map(move |pixels| Picture { w, h, pixels })
    })
}

fn palette(pixels: &[[u8; 3]]) -> Vec<[u8; 3]> {
    let mut all = pixels.to_vec();
    all.sort_unstable();
    all.dedup();
    all
}

/// What a server says until Aerie is in, without a password.
fn greeting(w: u16, h: u16) -> Vec<u8> {
    let mut all = b"RFB 003.008\n\x01\x01\0\0\0\0".to_vec();
    all.extend([w.to_be_bytes(), h.to_be_bytes()].concat());
    all.extend([0; 16]);
    all.extend(b"\0\0\0\x05dome\x1b");
    all
}

fn client(w: u16, h: u16) -> RfbClient {
    let mut client = RfbClient::new(Options { shared: true, ..Options::default() });
    client.handle_bytes(&greeting(w, h)).unwrap();
    while client.poll_transmit().is_some() {}
    assert_eq!(client.poll_event(), Some(Event::Began { name: "dome␛".into() }));
    client
}

/// An update of rectangles: where, encoding, and what follows.
fn update(rects: &[(Rect, i32, Vec<u8>)]) -> Vec<u8> {
    let mut all = vec![0, 0];
    all.extend((rects.len() as u16).to_be_bytes());
    for (r, encoding, body) in rects {
        all.extend([r.x, r.y, r.w, r.h].iter().flat_map(|n| n.to_be_bytes()));
        all.extend(encoding.to_be_bytes());
        all.extend(body);
    }
    all
}

fn raw(p: &Picture, r: Rect) -> Vec<u8> {
    p.part(r).into_iter().flat_map(|[r, g, b]| [r, g, b, 0]).collect()
}

fn hextile(p: &Picture) -> Vec<u8> {
    let mut out = vec![];
    for t in p.tiles(16) {
        let part = p.part(t);
        let colours = palette(&part);
        // Each pixel that is not the background is a part of its own; too many are sent as they are.
        let others: Vec<usize> = (0..part.len()).filter(|n| part[*n] != colours[0]).collect();
        if others.len() > 255 {
            out.push(1);
            out.extend(raw(p, t));
            continue;
        }
        out.push(2 | if others.is_empty() { 0 } else { 8 | 16 });
        out.extend([colours[0][0], colours[0][1], colours[0][2], 0]);
        if !others.is_empty() {
            out.push(others.len() as u8);
        }
        for n in others {
            let (x, y) = (n % usize::from(t.w), n / usize::from(t.w));
            out.extend([part[n][0], part[n][1], part[n][2], 0, (x << 4 | y) as u8, 0]);
        }
    }
    out
}

fn deflate(stream: &mut Compress, plain: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(plain.len() + 1024);
    stream.compress_vec(plain, &mut out, FlushCompress::Sync).unwrap();
    out
}

/// Packs numbers of a few bits, each row for itself.
fn packed(indexes: &[usize], width: u16, bits: u8) -> Vec<u8> {
    let mut out = vec![];
    for row in indexes.chunks(usize::from(width)) {
        for piece in row.chunks(usize::from(8 / bits)) {
            out.push(piece.iter().enumerate().fold(0u8, |byte, (n, index)| byte | (*index as u8) << (8 - bits * (n as u8 + 1))));
        }
    }
    out
}

/// A rectangle of ZRLE; `runs` chooses runs where both are possible.
fn zrle(stream: &mut Compress, p: &Picture, runs: bool) -> Vec<u8> {
    let mut plain = vec![];
    for t in p.tiles(64) {
        let part = p.part(t);
        let colours = palette(&part);
        let index = |c: &[u8; 3]| colours.iter().position(|o| o == c).unwrap();
        let length = |n: usize| [vec![255; (n - 1) / 255], vec![((n - 1) % 255) as u8]].concat();
        let groups: Vec<&[[u8; 3]]> = part.chunk_by(|a, b| a == b).collect();
        match colours.len() {
            1 => plain.extend([&[1][..], &colours[0]].concat()),
            n @ 2..=127 if runs => {
                plain.push(128 + n as u8);
                plain.extend(colours.concat());
                for group in groups {
                    match group.len() {
                        1 => plain.push(index(&group[0]) as u8),
                        n => plain.extend([vec![128 | index(&group[0]) as u8], length(n)].concat()),
                    }
                }
            }
            n @ 2..=16 => {
                plain.push(n as u8);
                plain.extend(colours.concat());
                let bits = if n == 2 {
                    1
                } else if n <= 4 {
                    2
                } else {
                    4
                };
                plain.extend(packed(&part.iter().map(index).collect::<Vec<_>>(), t.w, bits));
            }
            _ if runs => {
                plain.push(128);
                groups.iter().for_each(|g| plain.extend([&g[0][..], &length(g.len())].concat()));
            }
            _ => {
                plain.push(0);
                plain.extend(part.concat());
            }
        }
    }
    let piece = deflate(stream, &plain);
    [&(piece.len() as u32).to_be_bytes()[..], &piece].concat()
}

fn compact(piece: &[u8]) -> Vec<u8> {
    let n = piece.len();
    let mut out = match n {
        0..0x80 => vec![n as u8],
        0x80..0x4000 => vec![n as u8 & 0x7f | 0x80, (n >> 7) as u8],
        _ => vec![n as u8 & 0x7f | 0x80, (n >> 7) as u8 & 0x7f | 0x80, (n >> 14) as u8],
    };
    out.extend(piece);
    out
}

/// A rectangle of Tight with this filter, on the stream of that number, which begins anew where `fresh`.
fn tight(stream: &mut Compress, number: u8, fresh: bool, p: &Picture, filter: u8) -> Vec<u8> {
    let part = p.part(p.whole());
    let colours = palette(&part);
    if colours.len() == 1 {
        return [&[0x80][..], &colours[0]].concat();
    }
    if fresh {
        stream.reset();
    }
    let mut out = vec![0x40 | number << 4 | if fresh { 1 << number } else { 0 }, filter];
    let plain = match filter {
        1 => {
            out.push(colours.len() as u8 - 1);
            out.extend(colours.concat());
            let indexes: Vec<usize> = part.iter().map(|c| colours.iter().position(|o| o == c).unwrap()).collect();
            if colours.len() == 2 { packed(&indexes, p.w, 1) } else { indexes.iter().map(|i| *i as u8).collect() }
        }
        2 => {
            let at = |x: i32, y: i32| if x < 0 || y < 0 { [0; 3] } else { part[(y * i32::from(p.w) + x) as usize] };
            let one = |x: i32, y: i32| {
                let (l, u, c) = (at(x - 1, y), at(x, y - 1), at(x - 1, y - 1));
                (0..3).map(move |n| {
                    let guess = (i16::from(l[n]) + i16::from(u[n]) - i16::from(c[n])).clamp(0, 255) as u8;
                    at(x, y)[n].wrapping_sub(guess)
                })
            };
            (0..i32::from(p.h)).flat_map(|y| (0..i32::from(p.w)).flat_map(move |x| one(x, y).collect::<Vec<_>>())).collect()
        }
        _ => part.concat(),
    };
    out.extend(if plain.len() < 12 { plain } else { compact(&deflate(stream, &plain)) });
    out
}

fn shown(client: &RfbClient) -> Vec<[u8; 3]> {
    client.screen().unwrap().pixels().chunks(4).map(|p| [p[0], p[1], p[2]]).collect()
}

/// Feeds in pieces of a size, and takes what came of it.
fn fed(client: &mut RfbClient, bytes: &[u8], size: usize) -> Vec<Event> {
    bytes.chunks(size).for_each(|piece| client.handle_bytes(piece).unwrap());
    std::iter::from_fn(|| client.poll_event()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn every_encoding_gives_the_picture_in_pieces_of_any_size(
        (p, q) in (picture(3), picture(90)), size in 1usize..9000, runs: bool, filter in 0u8..3, fresh: bool, few: bool
    ) {
        let p = if few { p } else { q };
        let expected = vec![Event::Updated(vec![Damage::Pixels(p.whole())])];
        let level = Compression::fast();
        let (mut z, mut t) = (Compress::new(level, true), Compress::new(level, true));
        // A stream goes on from one rectangle to the next: each is sent twice.
        let mut bodies = vec![(0, raw(&p, p.whole())), (5, hextile(&p))];
        bodies.extend((0..2).map(|_| (16, zrle(&mut z, &p, runs))));
        bodies.extend((0..2).map(|n| (7, tight(&mut t, 2, fresh && n > 0, &p, filter))));
        let mut one = client(p.w, p.h);
        for (encoding, body) in bodies {
            let mut black = client(p.w, p.h);
            // The same client for streams, and what is black for the others, so that nothing is left from before.
            let target = if encoding == 16 || encoding == 7 { &mut one } else { &mut black };
            prop_assert_eq!(fed(target, &update(&[(p.whole(), encoding, body)]), size), expected.clone(), "{}", encoding);
            prop_assert_eq!(shown(target), p.pixels.clone(), "{}", encoding);
            one.screen().unwrap();
        }
    }

    #[test]
    fn nothing_that_a_server_sends_is_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..600), encoding in prop::sample::select(vec![0, 1, 5, 7, 16, -223, -224, -239])) {
        let mut one = client(64, 48);
        let rect = Rect { x: 0, y: 0, w: 40, h: 40 };
        let _ = one.handle_bytes(&update(&[(rect, encoding, bytes.clone())]));
        let _ = client(64, 48).handle_bytes(&bytes);
        let _ = RfbClient::new(Options::default()).handle_bytes(&[&b"RFB 003.008\n"[..], &bytes].concat());
    }
}

#[test]
fn parts_of_the_screen_are_copied_also_over_themselves() {
    let p = Picture { w: 4, h: 4, pixels: (0..16).map(|n| [n, n, n]).collect() };
    let mut one = client(4, 4);
    let to = Rect { x: 1, y: 1, w: 3, h: 3 };
    let bytes = update(&[(p.whole(), 0, raw(&p, p.whole())), (to, 1, vec![0, 0, 0, 0])]);
    let events = fed(&mut one, &bytes, 7);
    assert_eq!(events, [Event::Updated(vec![Damage::Pixels(p.whole()), Damage::Copied { from: (0, 0), to }])]);
    let reds: Vec<u8> = shown(&one).iter().map(|c| c[0]).collect();
    assert_eq!(reds, [0, 1, 2, 3, 4, 0, 1, 2, 8, 4, 5, 6, 12, 8, 9, 10]);
}

#[test]
fn a_password_is_proved_and_never_sent() {
    let mut one = RfbClient::new(Options { password: Some(Zeroizing::new("ridge-42".into())), shared: false, only: None });
    one.handle_bytes(b"RFB 003.008\n\x02\x01\x02").unwrap();
    one.handle_bytes(&(0..16).collect::<Vec<u8>>()).unwrap();
    let sent: Vec<Vec<u8>> = std::iter::from_fn(|| one.poll_transmit()).collect();
    // By `openssl enc -des-ecb` with each byte of the password turned around.
    assert_eq!(crate::evidence::hex(&sent[2]), EXPECTED_PROOF);
    assert_eq!((&sent[0][..], &sent[1][..]), (&b"RFB 003.008\n"[..], &[2][..]));
    let refused = one.handle_bytes(b"\0\0\0\x01\0\0\0\x04no \x07").unwrap_err();
    assert_eq!(refused.to_string(), "it does not let Aerie in: no ␇");
}

const EXPECTED_PROOF: &str = "32a2d5b35de8c618512a2dbd16503f09";

#[test]
fn tls_is_taken_where_the_server_has_a_certificate_and_nothing_comes_before_it() {
    let begin = |kinds: &[u32]| {
        let mut one = RfbClient::new(Options::default());
        one.handle_bytes(b"RFB 003.008\n\x01\x13\0\x02\0").unwrap();
        let kinds = [&[kinds.len() as u8][..], &kinds.iter().flat_map(|k| k.to_be_bytes()).collect::<Vec<_>>()].concat();
        (one.handle_bytes(&kinds), one)
    };
    let (result, mut one) = begin(&[258, 260, 261]);
    result.unwrap();
    one.handle_bytes(&[1]).unwrap();
    assert_eq!(one.poll_event(), Some(Event::StartTls));
    let sent: Vec<Vec<u8>> = std::iter::from_fn(|| one.poll_transmit()).collect();
    assert_eq!(sent[1..], [vec![19], vec![0, 2], 260u32.to_be_bytes().to_vec()]);
    one.handle_tls();
    one.handle_bytes(&greeting(2, 2)[14..]).unwrap();
    assert!(one.screen().is_some());
    // Anonymous TLS proves nothing.
    assert!(matches!(begin(&[257, 258]).0, Err(Fault::Security(_))));
    let (_, mut early) = begin(&[260]);
    early.handle_bytes(&[1]).unwrap();
    assert_eq!(early.handle_bytes(b"x"), Err(Fault::Unasked("bytes before TLS")));
}

#[test]
fn a_screen_changes_its_size_and_keeps_what_it_can() {
    let p = Picture { w: 3, h: 2, pixels: (1..=6).map(|n| [n, 0, 0]).collect() };
    let mut one = client(3, 2);
    let bytes = update(&[(p.whole(), 0, raw(&p, p.whole())), (Rect { x: 0, y: 0, w: 2, h: 3 }, -223, vec![])]);
    let events = fed(&mut one, &bytes, 100);
    let whole = Rect { x: 0, y: 0, w: 2, h: 3 };
    assert_eq!(events, [Event::Resized(2, 3), Event::Updated(vec![Damage::Pixels(whole)])]);
    assert_eq!(shown(&one).iter().map(|c| c[0]).collect::<Vec<_>>(), [1, 2, 4, 5, 0, 0]);
    let large = update(&[(Rect { x: 0, y: 0, w: 40_000, h: 40_000 }, -223, vec![])]);
    assert_eq!(one.handle_bytes(&large), Err(Fault::TooLarge(40_000, 40_000)));
}

#[test]
fn a_hostile_server_costs_bounded_memory_and_is_cut_off() {
    let all = Rect { x: 0, y: 0, w: 64, h: 64 };
    // A megabyte of zeros in a kilobyte.
    let bomb = deflate(&mut Compress::new(Compression::best(), true), &vec![0; 4 << 20]);
    let zrle_bomb = [&(bomb.len() as u32).to_be_bytes()[..], &bomb].concat();
    let tight_bomb = [vec![0], compact(&bomb)].concat();
    let table: [(i32, Rect, Vec<u8>, Fault); 9] = [
        (16, all, zrle_bomb, Fault::Long("a compressed piece")),
        (16, all, vec![0xff; 4], Fault::Long("a rectangle")),
        (7, all, tight_bomb, Fault::Long("a compressed piece")),
        (7, all, vec![0x90], Fault::Unasked("a picture with losses")),
        (0, Rect { x: 1, ..all }, vec![], Fault::Outside),
        (1, all, vec![0, 1, 0, 0], Fault::Outside),
        (5, all, vec![8 | 16, 1, 9, 9, 9, 9, 0xff, 0x11], Fault::Outside),
        (-239, Rect { w: 300, ..all }, vec![], Fault::Long("a pointer")),
        (21, all, vec![], Fault::Unasked("an encoding")),
    ];
    for (encoding, rect, body, fault) in table {
        assert_eq!(client(64, 64).handle_bytes(&update(&[(rect, encoding, body)])), Err(fault), "{encoding}");
    }
    // An update without an end: what it damages is told as the whole screen.
    let mut one = client(64, 64);
    let dot = (Rect { x: 5, y: 5, w: 1, h: 1 }, 0, vec![1, 2, 3, 0]);
    let mut endless = update(&vec![dot; 9000]);
    endless[2..4].copy_from_slice(&u16::MAX.to_be_bytes());
    one.handle_bytes(&endless).unwrap();
    assert_eq!(one.poll_event(), None);
    one.handle_bytes(&update(&[(all, -224, vec![])])[4..]).unwrap();
    let Some(Event::Updated(damage)) = one.poll_event() else { panic!() };
    assert!(damage.len() <= 4096 && damage[0] == Damage::Pixels(all));
    // A clipboard that is too long is passed over; what follows is read.
    let long = [&[3, 0, 0, 0][..], &(MOST_CLIPBOARD as u32 + 1).to_be_bytes(), &vec![b'x'; MOST_CLIPBOARD + 1], &[2]].concat();
    one.handle_bytes(&long).unwrap();
    assert_eq!((one.poll_event(), one.input_kept()), (Some(Event::Bell), 0));
    assert_eq!(RfbClient::new(Options::default()).handle_bytes(b"RFB 003.003\n"), Err(Fault::Version));
    assert_eq!(RfbClient::new(Options::default()).handle_bytes(b"RFB 003.008\n\0\xff\0\0\0"), Err(Fault::Long("a reason")));
}

#[test]
fn keys_pointer_and_clipboard_are_sent_once_aerie_is_in() {
    let mut early = RfbClient::new(Options::default());
    early.key(0xff0d, true);
    early.clipboard("x");
    assert_eq!(early.poll_transmit(), None);
    let mut one = client(100, 50);
    one.key(0xff0d, true);
    one.pointer((500, 20), 1);
    one.clipboard("é→");
    one.ask(false);
    let sent: Vec<Vec<u8>> = std::iter::from_fn(|| one.poll_transmit()).collect();
    assert_eq!(
        sent,
        [
            vec![4, 1, 0, 0, 0, 0, 0xff, 0x0d],
            vec![5, 1, 0, 99, 0, 20],
            vec![6, 0, 0, 0, 0, 0, 0, 2, 0xe9, b'?'],
            vec![3, 1, 0, 0, 0, 0, 0, 100, 0, 50],
        ]
    );
}

#[test]
fn the_pointers_picture_has_what_is_to_be_seen() {
    let mut one = client(4, 4);
    let colours: Vec<u8> = (0..2).flat_map(|n| [n, n, n, 0]).collect();
    let bytes = update(&[(Rect { x: 1, y: 0, w: 2, h: 1 }, -239, [colours, vec![0b0100_0000]].concat())]);
    let events = fed(&mut one, &bytes, 3);
    assert_eq!(events[0], Event::Pointer { size: (2, 1), hot: (1, 0), pixels: vec![0, 0, 0, 0, 1, 1, 1, 255] });
}

#[test]
fn where_the_single_screens_are_is_told_and_another_size_with_it() {
    let screen = |x: u16, w: u16| [&7u32.to_be_bytes()[..], &[x, 0, w, 50].map(u16::to_be_bytes).concat(), &[0; 4]].concat();
    let told = |of: &[Vec<u8>], rect: Rect| update(&[(rect, -308, [&[of.len() as u8, 0, 0, 0][..], &of.concat()].concat())]);
    let all = Rect { x: 0, y: 0, w: 100, h: 50 };
    let (left, right) = (Rect { w: 60, ..all }, Rect { x: 60, w: 40, ..all });
    let mut one = client(100, 50);
    assert_eq!(fed(&mut one, &told(&[screen(0, 60), screen(60, 40)], all), 3)[0], Event::Screens(vec![left, right]));
    // One alone, or one that hangs over the edge, is no arrangement of several.
    for odd in [vec![], vec![screen(0, 100)], vec![screen(0, 60), screen(61, 40)], vec![screen(0, 5); 17]] {
        assert_eq!(fed(&mut one, &told(&odd, all), 7)[0], Event::Screens(vec![]));
    }
    let wider = Rect { w: 200, ..all };
    let events = fed(&mut one, &told(&[screen(0, 100), screen(100, 100)], wider), 5);
    assert_eq!(events[0], Event::Resized(200, 50));
    assert_eq!(events[1], Event::Screens(vec![Rect { w: 100, ..all }, Rect { x: 100, w: 100, ..all }]));
    assert_eq!(events[2], Event::Updated(vec![Damage::Pixels(wider)]));
    // What a server says of a size that somebody asked for in vain is no size.
    let refused = Rect { x: 1, y: 1, w: 9, h: 9 };
    assert_eq!(fed(&mut one, &told(&[], refused), 64)[0], Event::Screens(vec![]));
    assert_eq!(one.screen().unwrap().size(), (200, 50));
    assert_eq!(one.handle_bytes(&told(&[], Rect { w: u16::MAX, h: u16::MAX, ..all })), Err(Fault::TooLarge(u16::MAX, u16::MAX)));
}

/// What real servers said, recorded by `crates/aerie/tests/desktop.rs`: bytes of the server, and the SHA-256 of what the X server itself says is on
/// its screen at the end, red, green and blue of each pixel.
#[test]
fn what_real_servers_said_is_read_to_the_very_pixel() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/desktop/vectors");
    let mut names: Vec<_> =
        std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).filter(|p| p.extension().is_some_and(|e| e == "rfb")).collect();
    names.sort();
    assert_eq!(names.len(), 8, "{names:?}");
    for path in names {
        let said = zstd::decode_all(&std::fs::read(&path).unwrap()[..]).unwrap();
        let wanted = std::fs::read_to_string(path.with_extension("sha256")).unwrap();
        for piece in [1 << 16, 331] {
            let mut one = RfbClient::new(Options { password: Some("observer".to_string().into()), shared: true, only: None });
            let mut screens = vec![];
            for bytes in said.chunks(piece) {
                one.handle_bytes(bytes).unwrap_or_else(|e| panic!("{path:?}: {e}"));
                while one.poll_transmit().is_some() {}
                while let Some(event) = one.poll_event() {
                    if let Event::Screens(found) = event {
                        screens = found;
                    }
                }
            }
            let shown = one.screen().unwrap().small(u16::MAX).2;
            assert_eq!(hex(&Sha256::digest(shown)), wanted.trim(), "{path:?} in pieces of {piece}");
            let two = path.file_stem().is_some_and(|n| n == "two-screens");
            assert_eq!(screens.len(), if two { 2 } else { 0 }, "{path:?}");
        }
    }
}
