//! See the library.

fn main() -> std::process::ExitCode {
    // The demo's machines are this program again; they must not get any further.
    aerie_lab::run_if_machine();
    aerie::run().into()
}
