//! Files and pictures of visits: encrypted under the keys of secrets while they are kept, each bound to its visit.

use super::problem::Problem;
use crate::service::App;
use aerie_store::{KeptContent, KeptOf};
use std::sync::Arc;

fn bound_to(of: KeptOf, visit: &str, id: &str) -> String {
    let kind = match of {
        KeptOf::Picture => "picture",
        KeptOf::File => "file",
    };
    format!("visit {kind} {visit}/{id}")
}

/// Keeps it. Some megabytes are encrypted beside the runtime.
pub(super) async fn keep(app: &Arc<App>, of: KeptOf, visit: &str, id: &str, content: Vec<u8>) -> Result<(), Problem> {
    let (keys, purpose) = (app.clone(), bound_to(of, visit, id));
    let sealed = tokio::task::spawn_blocking(move || keys.keys.seal(&content, &purpose)).await??;
    Ok(app.store.keep_of_visit(of, visit, id, &sealed).await?)
}

/// What was kept; none where there is nothing.
pub(super) async fn kept(app: &Arc<App>, of: KeptOf, visit: &str, id: &str) -> Result<Option<Vec<u8>>, Problem> {
    let (keys, purpose) = (app.clone(), bound_to(of, visit, id));
    match app.store.kept_of_visit(of, visit, id).await? {
        None => Ok(None),
        Some(KeptContent { content, sealed: false }) => Ok(Some(content)),
        Some(KeptContent { content, sealed: true }) => {
            let opened = tokio::task::spawn_blocking(move || keys.keys.open(&content, &purpose)).await?;
            opened.map(|c| Some(c.to_vec())).ok_or_else(|| Problem::internal(&"what was kept of a visit does not open"))
        }
    }
}
