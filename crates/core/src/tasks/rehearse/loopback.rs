//! A server on this machine's own loopback address, on a thread of its own, for as long as something lives. It answers what is meant for
//! it by name, so that no page of another site gets anything by way of a name that leads here; and goes on whatever a connection does.

use hyper::body::{Body, Incoming};
use hyper::header::HOST;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use std::error::Error;
use std::future::Future;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::runtime::Runtime;
use tokio::sync::oneshot;

/// So long it waits where a connection cannot be accepted.
const ACCEPT_AGAIN: Duration = Duration::from_millis(50);

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
        B: Body<Data: Send, Error: Error + Send + Sync> + Default + Send + 'static,
        E: Error + Send + Sync + 'static,
    {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_io().enable_time().build()?;
        let listener = runtime.block_on(TcpListener::bind((Ipv4Addr::LOCALHOST, 0)))?;
        let address = listener.local_addr()?;
        let (stop, stopped) = oneshot::channel();
        let named = move |request: Request<Incoming>| {
            let meant = is_meant_for(address, &request).then(|| answer(request));
            async move {
                match meant {
                    Some(answer) => answer.await,
                    None => Ok(misdirected()),
                }
            }
        };
        let thread = std::thread::Builder::new().spawn(move || listen(&runtime, listener, named, stopped))?;
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

/// Whether a request names this very address as where it goes (RFC 9112 section 3.2).
fn is_meant_for(address: SocketAddr, request: &Request<Incoming>) -> bool {
    let host = request.headers().get(HOST).and_then(|host| host.to_str().ok());
    host.is_some_and(|host| host == address.to_string())
}

fn misdirected<B: Default>() -> Response<B> {
    let mut response = Response::new(B::default());
    *response.status_mut() = StatusCode::MISDIRECTED_REQUEST;
    response
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
            loop {
                match listener.accept().await {
                    // A connection that breaks off is nobody's failure here.
                    Ok((stream, _)) => drop(tokio::spawn(
                        http1::Builder::new().serve_connection(TokioIo::new(stream), service_fn(answer.clone())),
                    )),
                    // There may be too many open files just now.
                    Err(_) => tokio::time::sleep(ACCEPT_AGAIN).await,
                }
            }
        });
        // Either way it is over.
        let _ = stopped.await;
    });
}
