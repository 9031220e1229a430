//! The agent alone, for machines: `aerie agent` in a program that holds nothing else.

fn main() -> std::process::ExitCode {
    aerie::run_agent().into()
}
