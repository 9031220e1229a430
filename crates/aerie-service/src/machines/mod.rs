//! Machines: the way to one, the connection to it, whether it is ready, what is on it, and the list of all.

mod check;
mod discover;
mod host_key;
mod inventory;
mod link;
pub(crate) mod neighbours;
mod path;
mod run;
mod sign_ins;

pub(crate) use check::check;
pub(crate) use discover::discover;
pub(crate) use host_key::{accept, print_of, shown_key};
pub(crate) use inventory::{HeardOf, Inventory, retire, tend};
pub(crate) use link::{LinkError, MachineLink, Purpose, Steps};
pub(crate) use path::{PathError, reach};
pub(crate) use run::run;
pub(crate) use sign_ins::SignIns;
