use super::*;
use proptest::prelude::*;

/// Moves every frame both ways until nothing is left; gives what came in on each side.
fn run(a: &mut Mux, b: &mut Mux) -> (Vec<Event>, Vec<Event>) {
    let (mut at_a, mut at_b) = (vec![], vec![]);
    loop {
        let mut moved = false;
        while let Some(f) = a.poll_frame() {
            b.handle_frame(&f).unwrap();
            moved = true;
        }
        while let Some(f) = b.poll_frame() {
            a.handle_frame(&f).unwrap();
            moved = true;
        }
        at_a.extend(std::iter::from_fn(|| a.poll_event()));
        at_b.extend(std::iter::from_fn(|| b.poll_event()));
        if !moved {
            return (at_a, at_b);
        }
    }
}

fn pair() -> (Mux, Mux, u32) {
    let (mut a, mut b) = (Mux::new(Side::Opener), Mux::new(Side::Acceptor));
    let id = a.open("127.0.0.1:22").unwrap();
    let (_, asked) = run(&mut a, &mut b);
    assert_eq!(asked, [Event::Asked(id, "127.0.0.1:22".into())]);
    b.accept(id);
    assert_eq!(run(&mut a, &mut b).0, [Event::Opened(id)]);
    (a, b, id)
}

fn bytes_of(events: &[Event], stream: u32) -> Vec<u8> {
    let of = |e: &Event| if let Event::Data(s, d) = e { (*s == stream).then(|| d.to_vec()) } else { None };
    events.iter().filter_map(of).flatten().collect()
}

#[test]
fn bytes_and_ends_pass_both_ways() {
    let (mut a, mut b, id) = pair();
    assert_eq!(a.send(id, b"question"), Some(8));
    a.finish(id);
    assert_eq!(a.send(id, b"more"), None);
    let (_, at_b) = run(&mut a, &mut b);
    assert_eq!((bytes_of(&at_b, id), at_b.last()), (b"question".to_vec(), Some(&Event::Finished(id))));
    b.send(id, b"answer");
    b.finish(id);
    let (at_a, _) = run(&mut a, &mut b);
    assert_eq!((bytes_of(&at_a, id), at_a.last()), (b"answer".to_vec(), Some(&Event::Finished(id))));
    assert_eq!((a.streams(), b.streams()), (0, 0));
}

#[test]
fn a_reader_that_takes_nothing_costs_a_window_and_holds_up_nobody() {
    let (mut a, mut b, stalled) = pair();
    let other = a.open("x:1").unwrap();
    run(&mut a, &mut b);
    b.accept(other);
    run(&mut a, &mut b);
    let mut arrived = 0;
    while a.send(stalled, &[7; 50_000]).unwrap() > 0 {
        arrived += bytes_of(&run(&mut a, &mut b).1, stalled).len();
    }
    assert_eq!(arrived, WINDOW as usize);
    a.send(other, b"past it");
    assert_eq!(bytes_of(&run(&mut a, &mut b).1, other), b"past it");
    assert!(b.consumed(stalled, CREDIT_PIECE as usize));
    let (at_a, at_b) = run(&mut a, &mut b);
    assert_eq!(bytes_of(&at_b, stalled).len(), OUT_ROOM);
    assert!(at_a.contains(&Event::Writable(stalled)));
}

#[test]
fn a_keystroke_passes_bulk_data() {
    let (mut a, mut b, bulk) = pair();
    let keys = a.open("x:1").unwrap();
    run(&mut a, &mut b);
    b.accept(keys);
    run(&mut a, &mut b);
    a.send(bulk, &[0; 100_000]);
    // One frame of bulk data is on its way when the key is typed.
    a.poll_frame().unwrap();
    a.send(keys, b"k");
    assert_eq!(Frame::decode(&a.poll_frame().unwrap()), Ok(Frame::Data(keys, Bytes::from_static(b"k"))));
    // Again and again: it waits for one frame of the other at most.
    for _ in 0..2 {
        a.send(keys, b"k");
        let next: Vec<_> = (0..2).filter_map(|_| a.poll_frame()).map(|f| Frame::decode(&f).unwrap()).collect();
        assert!(next.contains(&Frame::Data(keys, Bytes::from_static(b"k"))), "{next:?}");
    }
}

#[test]
fn streams_that_send_much_share_alike() {
    let (mut a, mut b, first) = pair();
    let second = a.open("x:1").unwrap();
    run(&mut a, &mut b);
    b.accept(second);
    run(&mut a, &mut b);
    a.send(first, &[1; 120_000]);
    a.send(second, &[2; 120_000]);
    let mut sent = HashMap::new();
    for _ in 0..8 {
        if let Ok(Frame::Data(s, d)) = Frame::decode(&a.poll_frame().unwrap()) {
            *sent.entry(s).or_insert(0) += d.len();
        }
    }
    assert_eq!(sent.get(&first), sent.get(&second));
}

#[test]
fn a_peer_that_breaks_the_rules_is_told_apart() {
    let (mut a, mut b, id) = pair();
    let refused = |m: &mut Mux, f: Frame| m.handle_frame(&f.encode()).unwrap_err();
    // An acceptor asks for nothing.
    assert_eq!(refused(&mut a, Frame::Open(2, "10.0.0.1:22".into())), Violation::Unasked);
    assert_eq!(refused(&mut a, Frame::Data(9, Bytes::from_static(b"x"))), Violation::Unasked);
    assert_eq!(refused(&mut a, Frame::Opened(id)), Violation::Order);
    assert_eq!(refused(&mut b, Frame::Opened(id)), Violation::Order);
    assert_eq!(refused(&mut b, Frame::Open(id, "again:1".into())), Violation::Unasked);
    assert_eq!(refused(&mut b, Frame::Open(9, "ahead:1".into())), Violation::Unasked);
    assert_eq!(refused(&mut a, Frame::Credit(id, 1)), Violation::Credit);
    assert_eq!(refused(&mut a, Frame::Credit(id, u32::MAX)), Violation::Credit);
    assert_eq!(refused(&mut a, Frame::Credit(id, 0)), Violation::Credit);
    assert_eq!(refused(&mut a, Frame::Ack(1000)), Violation::Ack);
    let full = Frame::Data(id, vec![0; MAX_DATA].into());
    for _ in 0..(WINDOW as usize / MAX_DATA) {
        a.handle_frame(&full.encode()).unwrap();
    }
    assert_eq!(refused(&mut a, Frame::Data(id, Bytes::from_static(b"x"))), Violation::Flooded);
    a.handle_frame(&Frame::Finish(id).encode()).unwrap();
    assert_eq!(refused(&mut a, Frame::Finish(id)), Violation::Order);
    let mut c = Mux::new(Side::Acceptor);
    for n in 1..=MOST_STREAMS as u32 {
        c.handle_frame(&Frame::Open(n, "x:1".into()).encode()).unwrap();
    }
    assert_eq!(refused(&mut c, Frame::Open(MOST_STREAMS as u32 + 1, "x:1".into())), Violation::Streams);
    let mut d = Mux::new(Side::Acceptor);
    let flood = (0..).find_map(|n| d.handle_frame(&Frame::Ping(n).encode()).err());
    assert_eq!(flood, Some(Violation::Stuck));
}

#[test]
fn what_was_given_up_is_ignored_when_it_comes_late() {
    let (mut a, mut b, id) = pair();
    b.send(id, b"late");
    a.reset(id);
    let (at_a, at_b) = run(&mut a, &mut b);
    assert!(bytes_of(&at_a, id).is_empty());
    assert_eq!(at_b, [Event::Reset(id)]);
    assert_eq!((a.send(id, b"x"), b.send(id, b"x")), (None, None));
}

#[test]
fn what_was_finished_on_both_sides_is_sent_although_nobody_holds_it_any_more() {
    let (mut a, mut b, id) = pair();
    a.finish(id);
    run(&mut a, &mut b);
    b.send(id, b"the last answer");
    b.finish(id);
    b.release(id);
    let (at_a, _) = run(&mut a, &mut b);
    assert_eq!((bytes_of(&at_a, id), at_a.last()), (b"the last answer".to_vec(), Some(&Event::Finished(id))));
    // Where the other side goes on sending to nobody, it is told.
    let (mut a, mut b, id) = pair();
    b.finish(id);
    b.release(id);
    assert_eq!(run(&mut a, &mut b).0.last(), Some(&Event::Reset(id)));
}

#[test]
fn a_refused_stream_says_why() {
    let (mut a, mut b) = (Mux::new(Side::Opener), Mux::new(Side::Acceptor));
    let id = a.open("x:1").unwrap();
    run(&mut a, &mut b);
    b.refuse(id, "it is not on the list");
    assert_eq!(run(&mut a, &mut b).0, [Event::Refused(id, "it is not on the list".into())]);
    assert_eq!(a.streams(), 0);
}

#[test]
fn nothing_is_kept_for_a_peer_that_acknowledges_and_bounded_for_one_that_does_not() {
    let (mut a, mut b, id) = pair();
    let mut lost = vec![];
    // The frames go nowhere: as they would into a dead connection.
    loop {
        let taken = a.send(id, &[0; 100_000]).unwrap();
        let frames: Vec<_> = std::iter::from_fn(|| a.poll_frame()).collect();
        if taken == 0 && frames.is_empty() {
            break;
        }
        lost.extend(frames);
    }
    assert!(a.kept() <= WINDOW as usize + OUT_ROOM + lost.len() * 5 + 100);
    a.resume(b.received()).unwrap();
    let (_, at_b) = run(&mut a, &mut b);
    assert_eq!(bytes_of(&at_b, id).len(), WINDOW as usize);
    b.acknowledge();
    run(&mut a, &mut b);
    assert_eq!(a.kept(), OUT_ROOM);
}

proptest! {
    /// Whatever is lost when connections break, each side gets every byte once and in order.
    #[test]
    fn breaks_lose_and_repeat_nothing(
        writes in proptest::collection::vec((0..3usize, 1..40_000usize, any::<bool>()), 1..30),
        breaks in proptest::collection::vec(0..12usize, 0..10),
    ) {
        let (mut a, mut b, first) = pair();
        let mut ids = vec![first];
        for n in 0..2 {
            ids.push(a.open(&format!("x:{}", n + 1)).unwrap());
        }
        run(&mut a, &mut b);
        ids.iter().for_each(|id| b.accept(*id));
        run(&mut a, &mut b);
        let mut expected: HashMap<(bool, u32), Vec<u8>> = HashMap::new();
        let mut got: HashMap<(bool, u32), Vec<u8>> = HashMap::new();
        let mut breaks = breaks.into_iter();
        let mut counter = 0u8;
        for (which, length, from_a) in writes {
            let id = ids[which];
            let data: Vec<u8> = (0..length).map(|_| { counter = counter.wrapping_add(1); counter }).collect();
            let taken = if from_a { a.send(id, &data) } else { b.send(id, &data) }.unwrap();
            expected.entry((from_a, id)).or_default().extend(&data[..taken]);
            if let Some(until) = breaks.next() {
                // Some frames arrive, the rest is lost with the connection.
                for n in 0..until {
                    if let Some(f) = a.poll_frame() && n % 3 != 2 { b.handle_frame(&f).unwrap(); } else { break }
                    if let Some(f) = b.poll_frame() { a.handle_frame(&f).unwrap(); }
                }
                let (at_a, at_b) = (a.received(), b.received());
                a.resume(at_b).unwrap();
                b.resume(at_a).unwrap();
            }
            let (at_a, at_b) = run(&mut a, &mut b);
            for id in &ids {
                let (back, there) = (bytes_of(&at_a, *id), bytes_of(&at_b, *id));
                let _ = a.consumed(*id, back.len());
                let _ = b.consumed(*id, there.len());
                got.entry((true, *id)).or_default().extend(there);
                got.entry((false, *id)).or_default().extend(back);
            }
        }
        for (key, bytes) in expected {
            prop_assert!(got[&key] == bytes);
        }
    }

    /// Arbitrary bytes never make more than an error.
    #[test]
    fn garbage_is_refused_without_harm(frames in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..30), 0..40)) {
        let (mut a, mut b, _) = pair();
        for f in frames {
            let _ = a.handle_frame(&f.clone().into());
            let _ = b.handle_frame(&f.into());
            while a.poll_frame().is_some() {}
            while b.poll_frame().is_some() {}
            while a.poll_event().is_some() {}
        }
    }
}
