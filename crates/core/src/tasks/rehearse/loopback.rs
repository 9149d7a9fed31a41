//! A server on this machine's own loopback address, on a thread of its own, for as long as something lives.

use hyper::body::{Body, Incoming};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use std::error::Error;
use std::future::Future;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::thread::JoinHandle;
use tokio::net::TcpListener;
use tokio::runtime::Runtime;
use tokio::sync::oneshot;

/// Listens until it is dropped.
pub(super) struct Loopback {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Loopback {
    /// Begins to listen on a free port; each request is answered by `answer`, and a connection whose answer is an error hangs up.
    pub fn start<A, F, B, E>(answer: A) -> io::Result<Self>
    where
        A: Fn(Request<Incoming>) -> F + Clone + Send + Sync + 'static,
        F: Future<Output = Result<Response<B>, E>> + Send + 'static,
        B: Body<Data: Send, Error: Error + Send + Sync> + Send + 'static,
        E: Error + Send + Sync + 'static,
    {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_io().enable_time().build()?;
        let listener = runtime.block_on(TcpListener::bind((Ipv4Addr::LOCALHOST, 0)))?;
        let address = listener.local_addr()?;
        let (stop, stopped) = oneshot::channel();
        let thread = std::thread::Builder::new().spawn(move || listen(&runtime, listener, answer, stopped))?;
        Ok(Self { address, stop: Some(stop), thread: Some(thread) })
    }

    pub const fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for Loopback {
    fn drop(&mut self) {
        // A server that is gone already needs no telling.
        let _ = self.stop.take().map(|stop| stop.send(()));
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

fn listen<A, F, B, E>(runtime: &Runtime, listener: TcpListener, answer: A, stopped: oneshot::Receiver<()>)
where
    A: Fn(Request<Incoming>) -> F + Clone + Send + Sync + 'static,
    F: Future<Output = Result<Response<B>, E>> + Send + 'static,
    B: Body<Data: Send, Error: Error + Send + Sync> + Send + 'static,
    E: Error + Send + Sync + 'static,
{
    runtime.block_on(async {
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                // A connection that breaks off is nobody's failure here.
                tokio::spawn(http1::Builder::new().serve_connection(TokioIo::new(stream), service_fn(answer.clone())));
            }
        });
        // Either way it is over.
        let _ = stopped.await;
    });
}
