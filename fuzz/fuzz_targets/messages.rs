//! Whatever comes as a message (a desktop's WebSocket, a visit's shell, an agent's greeting and frames, an enrolment code, an answer from the
//! person at the machine, a login name) is one or none, and what is one reads back as it was written.
#![no_main]

use aerie_core::desktop::{Framebuffer, Message};
use aerie_core::session::LoginName;
use aerie_core::session::consent::{FromMachine, ToMachine, line};
use aerie_core::tunnel::greeting::{AgentHello, AgentProof, Answer, EnrolmentCode, ServiceHello};
use aerie_core::tunnel::{FromAgent, FromService};
use aerie_core::visit::{ShellReader, ToShell, file_name};
use libfuzzer_sys::fuzz_target;

fn again<T: serde::Serialize + serde::de::DeserializeOwned>(data: &[u8]) {
    if let Ok(read) = serde_json::from_slice::<T>(data) {
        let written = serde_json::to_vec(&read).expect("it is written");
        let second: T = serde_json::from_slice(&written).expect("it reads again");
        assert_eq!(written, serde_json::to_vec(&second).expect("it is written"));
    }
}

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let text = String::from_utf8_lossy(data);
    match which % 7 {
        0 => {
            let mut screen = Framebuffer::new(64, 48).expect("a screen");
            for piece in data.split(|b| *b == 0xfe) {
                let Some(message) = Message::decode(piece) else { continue };
                assert_eq!(Message::decode(&message.encode()), Some(message.clone()));
                // A larger one is refused by its own bound, and takes its memory at once.
                if !matches!(message, Message::Size(w, h) if u32::from(w) * u32::from(h) > 1 << 20) {
                    let _ = screen.show(&message);
                }
            }
        }
        1 => {
            let read = |size: usize| {
                let (mut reader, mut all) = (ShellReader::default(), vec![]);
                for piece in data.chunks(size) {
                    reader.handle(piece);
                    loop {
                        match reader.poll() {
                            Ok(Some(ToShell::Typed(bytes))) => all.push(ToShell::Typed(bytes)),
                            Ok(Some(size)) => all.push(size),
                            Ok(None) => break,
                            Err(_) => return all,
                        }
                    }
                }
                all
            };
            assert_eq!(read(data.len().max(1)), read(2));
        }
        2 => {
            if let Some(message) = FromAgent::decode(data) {
                assert_eq!(FromAgent::decode(&message.encode()), Some(message));
            }
            if let Some(message) = FromService::decode(data) {
                assert_eq!(FromService::decode(&message.encode()), Some(message));
            }
        }
        3 => {
            again::<AgentHello>(data);
            again::<ServiceHello>(data);
            again::<AgentProof>(data);
            again::<Answer>(data);
        }
        4 => {
            if let Some(code) = EnrolmentCode::parse(&text) {
                assert_eq!(EnrolmentCode::parse(&code.text()), Some(code));
            }
        }
        5 => {
            for read in data.split(|b| *b == b'\n') {
                if let Ok(answer) = serde_json::from_slice::<FromMachine>(read) {
                    assert!(line(&answer).ends_with(b"\n"));
                }
                if let Ok(question) = serde_json::from_slice::<ToMachine>(read) {
                    assert_eq!(line(&question).iter().filter(|b| **b == b'\n').count(), 1);
                }
            }
        }
        _ => {
            if let Ok(login) = LoginName::parse(&text) {
                assert!(!login.person.is_empty());
            }
            if let Some(name) = file_name(&text) {
                assert!(!name.is_empty() && name != "." && name != ".." && !name.contains(['/', '\\', '\0']) && !name.chars().any(char::is_control));
            }
        }
    }
});
