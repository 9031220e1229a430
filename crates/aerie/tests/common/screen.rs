//! Real X servers with a desktop, on this computer.

use super::own::free_port;
use aerie_core::desktop::{Options, RfbClient};
use aerie_lab::XScreen;
use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::process::{Child, Command, Stdio};

/// An X server whose desktop can be reached.
pub struct Screen {
    /// Where its desktop listens.
    pub at: SocketAddr,
    screen: XScreen,
}

/// How somebody gets in.
pub enum Way<'a> {
    Open,
    Password(&'a str),
    /// With a certificate, and nothing else.
    Certificate,
}

/// Two screens side by side, 320 × 240 each, are asked for (SetDesktopSize of the registry).
pub fn two_screens() -> Vec<u8> {
    let screen = |id: u32, x: u16| [&id.to_be_bytes()[..], &[x, 0, 320, 240].map(u16::to_be_bytes).concat(), &[0; 4]].concat();
    [&[251, 0][..], &640u16.to_be_bytes(), &240u16.to_be_bytes(), &[2, 0], &screen(1, 0), &screen(2, 320)].concat()
}

fn started(name: &str, arguments: &[&str]) -> XScreen {
    XScreen::start(name, arguments).unwrap_or_else(|e| panic!("{name}: {e}: the packages of `make packages` are needed"))
}

impl Screen {
    /// TigerVNC's own X server.
    pub fn tiger(dir: &std::path::Path, way: Way<'_>) -> Self {
        let at = free_port();
        let port = at.port().to_string();
        let mut all =
            vec!["-geometry", "800x600", "-depth", "24", "-localhost=1", "-AlwaysShared", "-desktop", "a test", "-rfbport", &port];
        let path = |name: &str| dir.join(name).to_str().unwrap().to_string();
        let (file, key, cert) = (path("vnc-password"), path("vnc-key.pem"), path("vnc-cert.pem"));
        match way {
            Way::Open => all.extend(["-SecurityTypes", "None"]),
            Way::Password(password) => {
                let made = Command::new("sh").args(["-c", "printf %s \"$1\" | vncpasswd -f > \"$2\"", "sh", password]).arg(&file).status();
                assert!(made.unwrap().success());
                all.extend(["-SecurityTypes", "VncAuth", "-PasswordFile", &file]);
            }
            Way::Certificate => {
                let mut made = Command::new("openssl");
                made.args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=scope"]);
                assert!(made.arg("-keyout").arg(&key).arg("-out").arg(&cert).stderr(Stdio::null()).status().unwrap().success());
                all.extend(["-SecurityTypes", "X509None", "-X509Key", &key, "-X509Cert", &cert]);
            }
        }
        Self { at, screen: started("Xtigervnc", &all) }
    }

    /// Another server's picture, handed out by x11vnc.
    pub fn shared() -> Self {
        let at = free_port();
        let mut screen = started("Xvfb", &["-screen", "0", "640x480x24", "-nolisten", "tcp"]);
        let (port, display) = (at.port().to_string(), screen.display().to_string());
        screen.run("x11vnc", &["-display", &display, "-localhost", "-rfbport", &port, "-nopw", "-forever", "-shared", "-quiet"]).unwrap();
        Self { at, screen }
    }

    /// Runs a shell script in a terminal window at the top left.
    pub fn terminal(&mut self, script: &str) {
        self.terminal_with(&[], script);
    }

    /// The same, with further arguments of the terminal.
    pub fn terminal_with(&mut self, arguments: &[&str], script: &str) {
        self.screen.terminal("80x24+0+0", arguments, script).unwrap();
    }

    /// Types a line into a terminal of the person whose screen it is: what it leaves behind would be in `temporary`.
    pub fn starts(&self, line: &str, temporary: &std::path::Path) -> Child {
        // A home of its own: the start-up files of the user who runs the tests may take a minute, or leave a lock behind when killed.
        let plain = [("HOME", temporary.as_os_str()), ("TMPDIR", temporary.as_os_str()), ("SHELL", "/bin/bash".as_ref())];
        self.screen.shell(line).envs(plain).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    }

    /// Makes two screens of it, as somebody does who sits there; gives what they did it with.
    pub fn split(&self) -> TcpStream {
        let mut stream = TcpStream::connect(self.at).unwrap();
        let mut client = RfbClient::new(Options { shared: true, ..Options::default() });
        let (mut piece, mut begun) = (vec![0; 1 << 16], false);
        while !begun {
            let n = stream.read(&mut piece).unwrap();
            client.handle_bytes(&piece[..n]).unwrap();
            begun = client.poll_event().is_some();
            while let Some(bytes) = client.poll_transmit() {
                stream.write_all(&bytes).unwrap();
            }
        }
        stream.write_all(&two_screens()).unwrap();
        stream
    }

    /// What the screen really shows: width, height, and red, green and blue of each pixel (X's own dump of it).
    pub fn dump(&self) -> (u32, u32, Vec<u8>) {
        let out = Command::new("xwd").args(["-root", "-silent", "-display", self.screen.display()]).output().unwrap().stdout;
        let field = |n: usize| u32::from_be_bytes(out[n * 4..n * 4 + 4].try_into().unwrap());
        let (head, width, height, line, colours) = (field(0), field(4), field(5), field(12), field(19));
        assert_eq!(field(11), 32, "32 bits a pixel");
        let begin = (head + colours * 12) as usize;
        let row = |y: u32| &out[begin + (y * line) as usize..][..(width * 4) as usize];
        (width, height, (0..height).flat_map(|y| row(y).chunks_exact(4).flat_map(|p| [p[2], p[1], p[0]])).collect())
    }
}
