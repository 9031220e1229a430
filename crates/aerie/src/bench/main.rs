//! Measures Aerie side by side with plain OpenSSH, prints a table, and writes target/bench/summary.json.
//!
//! Runs of ours and of the peer are interleaved, so that noise hits both; medians are compared.

mod accesses;
mod activity;
mod api;
mod audit;
mod core;
mod desktop;
mod gateway;
mod live;
mod machines;
mod served;
mod world;

use serde::Serialize;

/// One figure.
#[derive(Debug, Serialize)]
struct Figure {
    name: &'static str,
    unit: &'static str,
    ours: f64,
    peer: Option<f64>,
    /// Ours divided by the peer's.
    ratio: Option<f64>,
    goal: &'static str,
    met: bool,
    runs: usize,
}

impl Figure {
    /// A figure without a peer.
    fn alone(name: &'static str, unit: &'static str, ours: f64, goal: &'static str, met: bool, runs: usize) -> Self {
        Self { name, unit, ours, peer: None, ratio: None, goal, met, runs }
    }

    /// A figure beside a peer's.
    fn beside(
        name: &'static str,
        unit: &'static str,
        ours: f64,
        peer: f64,
        goal: &'static str,
        met: impl FnOnce(f64) -> bool,
        runs: usize,
    ) -> Self {
        let ratio = ours / peer;
        Self { name, unit, ours, peer: Some(peer), ratio: Some(ratio), goal, met: met(ratio), runs }
    }
}

type Outcome<T> = Result<T, Box<dyn std::error::Error>>;

fn main() -> Outcome<()> {
    aerie_lab::run_if_machine();
    // `aerie-bench api`, `machines`, `live`, `page`, `accesses`, `audit`, `desktop`, `core` or `gateway` measures that alone: minutes less, while one works on it.
    let figures = match std::env::args().nth(1).as_deref() {
        Some("api") => api::figures()?,
        Some("machines") => machines::figures()?,
        Some("live") => live::figures()?,
        Some("page") => live::the_page()?,
        Some("accesses") => accesses::figures()?,
        Some("core") => core::figures()?,
        Some("gateway") => gateway::figures(&world::World::start()?)?,
        Some("audit") => audit::figures()?,
        Some("desktop") => desktop::figures()?,
        _ => api::figures()?
            .into_iter()
            .chain(machines::figures()?)
            .chain(live::figures()?)
            .chain(accesses::figures()?)
            .chain(audit::figures()?)
            .chain(desktop::figures()?)
            .chain(rest()?)
            .collect(),
    };
    report(&figures)
}

fn rest() -> Outcome<Vec<Figure>> {
    let mut figures = core::figures()?;
    let world = world::World::start()?;
    figures.extend(gateway::figures(&world)?);
    Ok(figures)
}

fn report(figures: &[Figure]) -> Outcome<()> {
    let mut out = std::io::stdout().lock();
    use std::io::Write as _;
    writeln!(out, "{:<58} {:>12} {:>12} {:>7}  {:<28} met", "figure", "ours", "peer", "ratio", "goal")?;
    for f in figures {
        let number = |n: Option<f64>| n.map_or(String::from("-"), |n| format!("{n:.2}"));
        let name = format!("{} ({})", f.name, f.unit);
        let met = if f.met { "yes" } else { "NO" };
        writeln!(out, "{name:<58} {:>12.2} {:>12} {:>7}  {:<28} {met}", f.ours, number(f.peer), number(f.ratio), f.goal)?;
    }
    std::fs::create_dir_all("target/bench")?;
    std::fs::write("target/bench/summary.json", serde_json::to_vec_pretty(figures)?)?;
    Ok(())
}

/// The middle value.
fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}
