//! The service: SSH gateway, recorder, HTTP API and console around the core and the store.
//!
//! [`Service::start`] brings everything up; [`Service::stop`] ends every session, closes every recording and signs the log.

mod agents;
pub mod api;
mod asking;
mod assets;
mod audit;
mod config;
mod data;
mod desktop;
mod ending;
mod films;
mod forwarding;
mod gateway;
mod identity;
mod keys;
mod known;
mod machines;
mod mailing;
mod pace;
mod places;
mod reach;
mod recorder;
mod rounds;
mod rulebook;
mod second;
mod service;
mod sessions;
mod vault;
mod visits;
mod watch;

pub use config::{Config, DEFAULT_HTTP, DEFAULT_HTTPS, DEFAULT_SSH, Syslog};
pub use data::{DataDirectory, DataError};
pub use identity::{PASSWORD_COST, hash_password, totp_purpose};
pub use keys::{KeyAge, KeyError, Keys, Purpose, fingerprint};
pub use recorder::{RecordingInfo, read_from, read_recording};
pub use rulebook::{PublishError, Rulebook};
pub use service::{Service, ServiceError};
