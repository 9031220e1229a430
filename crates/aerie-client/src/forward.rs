//! Ports of machines, over the same HTTPS as everything else.

use crate::socket::Socket;
use crate::{Client, Result};
use aerie_api::ForwardQuery;
use aerie_core::tunnel::Side;
use aerie_tunnel::{Broken, Tunnel};
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::copy_bidirectional;
use tokio::net::TcpListener;

/// How long the service may say nothing.
const QUIET: Duration = Duration::from_secs(75);

/// A port that is being forwarded.
pub struct Forwarding {
    tunnel: Tunnel,
    socket: Socket,
}

impl Client {
    /// Begins to forward a way of a machine.
    ///
    /// # Errors
    /// See [`Client::sign_in`].
    pub async fn forward(&self, machine: &str, query: &ForwardQuery) -> Result<Forwarding> {
        let mut pairs = vec![("way", query.way.as_str())];
        let stated = [("reason", &query.reason), ("ticket", &query.ticket)];
        pairs.extend(stated.iter().filter_map(|(key, value)| Some((*key, value.as_deref()?))));
        let path = format!("/api/v1/machines/{}/forward", crate::people::name(machine));
        let socket = self.socket(&path, &pairs, aerie_tunnel::socket_config()).await?;
        Ok(Forwarding { tunnel: Tunnel::new(Side::Opener).0, socket })
    }
}

impl Forwarding {
    /// Takes connections and carries each, until the service ends it; says why. `each` hears of every connection that could
    /// not be opened.
    pub async fn serve(self, listener: TcpListener, each: impl Fn(io::Error) + Send + Sync + 'static) -> Broken {
        let Self { tunnel, socket } = self;
        let (here, each) = (tunnel.clone(), Arc::new(each));
        let taking = async move {
            loop {
                let Ok((mut local, _)) = listener.accept().await else { continue };
                let (tunnel, each) = (here.clone(), each.clone());
                tokio::spawn(async move {
                    let _ = local.set_nodelay(true);
                    // The machine's own service is the one that the way names; what is asked for here is not looked at.
                    match tunnel.open("way:1").await {
                        Ok(mut stream) => drop(copy_bidirectional(&mut local, &mut stream).await),
                        Err(e) => each(e),
                    }
                });
            }
        };
        let broken = tokio::select! {
            broken = tunnel.run(socket, QUIET) => broken,
            () = taking => Broken::Closed,
        };
        // Nothing goes on: whoever is connected here must not wait for what never comes.
        tunnel.end();
        broken
    }
}
