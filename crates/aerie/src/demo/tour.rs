//! stub
use crate::cli::Demo; use crate::output::Printer; use crate::{Exit,Failure};
pub(crate) async fn run(_o: &Demo, _p: Printer) -> Result<Exit, Failure> { Ok(Exit::Done) }
