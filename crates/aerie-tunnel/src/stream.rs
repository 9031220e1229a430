use crate::drive::Tunnel;
use bytes::{Buf as _, Bytes};
use std::collections::VecDeque;
use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, Waker};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// What arrived of a stream and was not read; its writer gets credit for no more than a window of it.
#[derive(Debug, Default)]
pub(crate) struct Place {
    arrived: VecDeque<Bytes>,
    finished: bool,
    reset: bool,
    reader: Option<Waker>,
    writer: Option<Waker>,
}

impl Place {
    pub(crate) fn take(&mut self, bytes: Bytes) {
        self.arrived.push_back(bytes);
        self.wake_reader();
    }

    pub(crate) fn finish(&mut self) {
        self.finished = true;
        self.wake_reader();
    }

    pub(crate) fn reset(&mut self) {
        self.reset = true;
        self.wake_reader();
        self.writable();
    }

    pub(crate) fn writable(&mut self) {
        if let Some(w) = self.writer.take() {
            w.wake();
        }
    }

    fn wake_reader(&mut self) {
        if let Some(r) = self.reader.take() {
            r.wake();
        }
    }
}

/// One stream of a tunnel. Dropping it before both directions ended resets it.
#[derive(Debug)]
pub struct TunnelStream {
    tunnel: Tunnel,
    id: u32,
}

fn gone() -> io::Error {
    io::Error::new(io::ErrorKind::ConnectionReset, "the stream was reset")
}

impl TunnelStream {
    pub(crate) fn new(tunnel: Tunnel, id: u32) -> Self {
        Self { tunnel, id }
    }
}

impl Drop for TunnelStream {
    fn drop(&mut self) {
        self.tunnel.give_up(self.id, None);
    }
}

impl AsyncRead for TunnelStream {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let mut guard = self.tunnel.lock();
        let state = &mut *guard;
        let Some(place) = state.places.get_mut(&self.id) else { return Poll::Ready(Err(gone())) };
        let mut taken = 0;
        while buf.remaining() > 0
            && let Some(front) = place.arrived.front_mut()
        {
            let n = front.len().min(buf.remaining());
            buf.put_slice(front.get(..n).unwrap_or_default());
            front.advance(n);
            if front.is_empty() {
                place.arrived.pop_front();
            }
            taken += n;
        }
        if taken > 0 {
            let due = state.mux.consumed(self.id, taken);
            drop(guard);
            if due {
                self.tunnel.0.wake.notify_one();
            }
            return Poll::Ready(Ok(()));
        }
        if place.reset {
            return Poll::Ready(Err(gone()));
        }
        if place.finished || buf.remaining() == 0 {
            return Poll::Ready(Ok(()));
        }
        place.reader = Some(cx.waker().clone());
        Poll::Pending
    }
}

impl AsyncWrite for TunnelStream {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, data: &[u8]) -> Poll<io::Result<usize>> {
        if data.is_empty() {
            return Poll::Ready(Ok(0));
        }
        let mut guard = self.tunnel.lock();
        let state = &mut *guard;
        let Some(place) = state.places.get_mut(&self.id).filter(|p| !p.reset) else { return Poll::Ready(Err(gone())) };
        match state.mux.send(self.id, data) {
            None => Poll::Ready(Err(io::Error::new(io::ErrorKind::BrokenPipe, "the stream was finished"))),
            Some(0) => {
                place.writer = Some(cx.waker().clone());
                Poll::Pending
            }
            Some(n) => {
                drop(guard);
                self.tunnel.0.wake.notify_one();
                Poll::Ready(Ok(n))
            }
        }
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.tunnel.lock().mux.finish(self.id);
        self.tunnel.0.wake.notify_one();
        Poll::Ready(Ok(()))
    }
}
