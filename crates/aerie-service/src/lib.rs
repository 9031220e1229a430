//! The service: SSH gateway, recorder, HTTP API and console around the core and the store.
//!
//! [`Service::start`] brings everything up; [`Service::stop`] ends every session, closes every recording and signs the log.

pub mod api;
mod assets;
mod audit;
mod config;
mod gateway;
mod identity;
mod keys;
mod reach;
mod recorder;
mod rulebook;
mod service;
mod sessions;

pub use config::{Config, DEFAULT_HTTP, DEFAULT_SSH};
pub use identity::{hash_password, new_token, totp_purpose};
pub use keys::{KeyError, Keys, fingerprint};
pub use recorder::{RecordingInfo, read_recording};
pub use rulebook::{PublishError, Rulebook};
pub use service::{Service, ServiceError};
