use crate::inventory::MachineFacts;
use serde::{Deserialize, Serialize};

/// What an agent says on the tunnel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FromAgent {
    /// The ticket is kept: the one before is void.
    TicketKept,
    /// What it knows of its machine.
    Facts(Box<MachineFacts>),
    /// The person at the machine typed the PIN of a visit on the agent's page.
    VisitPin(String),
}

/// What the service says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FromService {
    /// Put these authorities (lines of OpenSSH's public key format) where the SSH server reads them.
    Trust(Vec<String>),
    /// What became of the PIN that was typed, for the person.
    VisitTaken {
        /// Whether it was the right one.
        right: bool,
        /// A sentence.
        text: String,
    },
}

macro_rules! as_json {
    ($name:ident) => {
        impl $name {
            /// As it goes over the tunnel.
            pub fn encode(&self) -> bytes::Bytes {
                serde_json::to_vec(self).unwrap_or_default().into()
            }

            /// Reads it; none where it is not known here, which a later version may say.
            pub fn decode(bytes: &[u8]) -> Option<Self> {
                serde_json::from_slice(bytes).ok()
            }
        }
    };
}

as_json!(FromAgent);
as_json!(FromService);
