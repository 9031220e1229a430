//! Real X servers with something on them, for the demo, the tests and the benchmarks. They end with whoever started them.

use std::io::{self, BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};

/// An X server, and the programs on its screen.
#[derive(Debug)]
pub struct XScreen {
    display: String,
    children: Vec<Child>,
}

/// A program that ends with this process.
fn program(name: &str, arguments: &[&str]) -> Command {
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig", "KILL", name]).args(arguments).stdin(Stdio::null()).stderr(Stdio::null());
    command
}

impl XScreen {
    /// Starts one of Debian's X servers, `Xtigervnc` or `Xvfb`, with these arguments; it chooses its display itself.
    ///
    /// # Errors
    /// When it is not installed, or says no display.
    pub fn start(server: &str, arguments: &[&str]) -> io::Result<Self> {
        let mut child = program(server, arguments).args(["-displayfd", "1"]).stdout(Stdio::piped()).spawn()?;
        let mut line = String::new();
        if let Some(out) = child.stdout.take() {
            BufReader::new(out).read_line(&mut line)?;
        }
        let screen = Self { display: format!(":{}", line.trim()), children: vec![child] };
        if line.trim().is_empty() { Err(io::Error::other(format!("{server} did not start"))) } else { Ok(screen) }
    }

    /// Its display, as programs find it in `DISPLAY`.
    pub fn display(&self) -> &str {
        &self.display
    }

    /// Runs a program there, to the end of the screen.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn run(&mut self, name: &str, arguments: &[&str]) -> io::Result<()> {
        self.children.push(program(name, arguments).env("DISPLAY", &self.display).stdout(Stdio::null()).spawn()?);
        Ok(())
    }

    /// Runs a shell script in a terminal window of this place and size (columns, rows, and the point of its upper left corner: `80x24+0+0`).
    ///
    /// # Errors
    /// When there is no `xterm`.
    pub fn terminal(&mut self, geometry: &str, arguments: &[&str], script: &str) -> io::Result<()> {
        let mut all = vec!["-geometry", geometry];
        all.extend_from_slice(arguments);
        all.extend_from_slice(&["-e", "sh", "-c", script]);
        self.run("xterm", &all)
    }

    /// A shell in which a line is typed by whoever sits there.
    pub fn shell(&self, line: &str) -> Command {
        let mut shell = program("sh", &["-c", line]);
        shell.env("DISPLAY", &self.display).env_remove("WAYLAND_DISPLAY");
        shell
    }
}

impl Drop for XScreen {
    fn drop(&mut self) {
        // Whatever is on the screen first.
        for child in self.children.iter_mut().rev() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
