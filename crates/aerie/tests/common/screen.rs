//! Real X servers with a desktop, on this computer.

use super::own::free_port;
use std::io::{BufRead as _, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};

/// An X server whose desktop can be reached.
pub struct Screen {
    /// Where its desktop listens.
    pub at: SocketAddr,
    display: String,
    children: Vec<Child>,
}

/// How somebody gets in.
pub enum Way<'a> {
    Open,
    Password(&'a str),
    /// With a certificate, and nothing else.
    Certificate,
}

fn start(command: &mut Command) -> Child {
    command.stderr(Stdio::null()).spawn().unwrap_or_else(|e| panic!("{command:?}: {e}: the packages of `make packages` are needed"))
}

fn number_of(server: &mut Child) -> String {
    let mut line = String::new();
    BufReader::new(server.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert!(!line.trim().is_empty(), "the X server did not start");
    format!(":{}", line.trim())
}

impl Screen {
    /// TigerVNC's own X server.
    pub fn tiger(dir: &std::path::Path, way: Way<'_>) -> Self {
        let at = free_port();
        let mut server = Command::new("setpriv");
        server.args(["--pdeathsig", "KILL", "Xtigervnc", "-displayfd", "1", "-geometry", "800x600", "-depth", "24", "-localhost=1"]);
        server.args(["-AlwaysShared", "-desktop", "a test", "-rfbport", &at.port().to_string()]).stdout(Stdio::piped());
        match way {
            Way::Open => drop(server.args(["-SecurityTypes", "None"])),
            Way::Password(password) => {
                let file = dir.join("vnc-password");
                let made = Command::new("sh").args(["-c", "printf %s \"$1\" | vncpasswd -f > \"$2\"", "sh", password]).arg(&file).status();
                assert!(made.unwrap().success());
                server.args(["-SecurityTypes", "VncAuth", "-PasswordFile"]).arg(file);
            }
            Way::Certificate => {
                let (key, cert) = (dir.join("vnc-key.pem"), dir.join("vnc-cert.pem"));
                let mut made = Command::new("openssl");
                made.args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=scope"]);
                assert!(made.arg("-keyout").arg(&key).arg("-out").arg(&cert).stderr(Stdio::null()).status().unwrap().success());
                server.args(["-SecurityTypes", "X509None", "-X509Key"]).arg(key).arg("-X509Cert").arg(cert);
            }
        }
        let mut server = start(&mut server);
        let display = number_of(&mut server);
        Self { at, display, children: vec![server] }
    }

    /// Another server's picture, handed out by x11vnc.
    pub fn shared() -> Self {
        let at = free_port();
        let mut server = Command::new("setpriv");
        server.args(["--pdeathsig", "KILL", "Xvfb", "-displayfd", "1", "-screen", "0", "640x480x24", "-nolisten", "tcp"]);
        let mut server = start(server.stdout(Stdio::piped()));
        let display = number_of(&mut server);
        let mut sharing = Command::new("setpriv");
        sharing.args(["--pdeathsig", "KILL", "x11vnc", "-display", &display, "-localhost", "-rfbport", &at.port().to_string()]);
        let sharing = start(sharing.args(["-nopw", "-forever", "-shared", "-quiet"]).stdout(Stdio::null()));
        Self { at, display, children: vec![server, sharing] }
    }

    /// Runs a shell script in a terminal window at the top left.
    pub fn terminal(&mut self, script: &str) {
        self.terminal_with(&[], script);
    }

    /// The same, with further arguments of the terminal.
    pub fn terminal_with(&mut self, arguments: &[&str], script: &str) {
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "KILL", "xterm", "-geometry", "80x24+0+0"]).args(arguments).args(["-e", "sh", "-c", script]);
        self.children.push(start(command.env("DISPLAY", &self.display)));
    }

    /// Types a line into a terminal of the person whose screen it is: what it leaves behind would be in `temporary`.
    pub fn starts(&self, line: &str, temporary: &std::path::Path) -> Child {
        let mut shell = Command::new("setpriv");
        shell.args(["--pdeathsig", "KILL", "sh", "-c", line]).env("DISPLAY", &self.display).env("TMPDIR", temporary);
        shell.env_remove("WAYLAND_DISPLAY").stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    }

    /// What the screen really shows: width, height, and red, green and blue of each pixel (X's own dump of it).
    pub fn dump(&self) -> (u32, u32, Vec<u8>) {
        let out = Command::new("xwd").args(["-root", "-silent", "-display", &self.display]).output().unwrap().stdout;
        let field = |n: usize| u32::from_be_bytes(out[n * 4..n * 4 + 4].try_into().unwrap());
        let (head, width, height, line, colours) = (field(0), field(4), field(5), field(12), field(19));
        assert_eq!(field(11), 32, "32 bits a pixel");
        let begin = (head + colours * 12) as usize;
        let row = |y: u32| &out[begin + (y * line) as usize..][..(width * 4) as usize];
        (width, height, (0..height).flat_map(|y| row(y).chunks_exact(4).flat_map(|p| [p[2], p[1], p[0]])).collect())
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        for child in self.children.iter_mut().rev() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
