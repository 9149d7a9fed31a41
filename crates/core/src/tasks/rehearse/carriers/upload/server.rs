//! The server's side of an upload: one form, a limit for requests, and places at which it hangs up.

use crate::tasks::rehearse::loopback::Loopback;
use http_body_util::{BodyDataStream, Empty};
use hyper::body::{Bytes, Incoming};
use hyper::header::{CONTENT_LENGTH, CONTENT_TYPE};
use hyper::{Method, Request, Response, StatusCode};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// A header field: how much of an upload is there, and from where on it is sent (the resumable uploads of the HTTP
/// working group use it so).
pub(super) const OFFSET_FIELD: &str = "Upload-Offset";

/// Where an upload breaks off, in bytes of its file; the last one comes first.
pub(super) type Breaks = Vec<u64>;

/// The form, served for as long as this lives.
pub(super) struct Server {
    form: Arc<Form>,
    loopback: Loopback,
}

/// What the form knows.
struct Form {
    /// The name under which all of this is; nobody else knows it.
    name: String,
    limit: u64,
    folder: PathBuf,
    breaks: Mutex<BTreeMap<String, Breaks>>,
    failure: Mutex<Option<io::Error>>,
}

/// The server hangs up.
#[derive(Debug, thiserror::Error)]
enum HangUp {
    #[error("broken off, as was meant")]
    Meant,
    #[error(transparent)]
    Body(#[from] multer::Error),
    #[error(transparent)]
    File(#[from] io::Error),
}

impl Server {
    /// Begins to listen.
    pub fn start(name: String, limit: u64, folder: &Path, breaks: BTreeMap<String, Breaks>) -> io::Result<Self> {
        let (folder, breaks, failure) = (folder.to_owned(), Mutex::new(breaks), Mutex::new(None));
        let form = Arc::new(Form { name, limit, folder, breaks, failure });
        let served = Arc::clone(&form);
        let loopback = Loopback::start(move |request| answer(Arc::clone(&served), request))?;
        Ok(Self { form, loopback })
    }

    /// Where an upload goes.
    pub fn address_of(&self, id: &str) -> String {
        format!("http://{}/{}/{id}", self.loopback.address(), self.form.name)
    }

    /// Where it keeps what comes.
    pub fn folder(&self) -> &Path {
        &self.form.folder
    }

    /// Why it could not keep something, if that happened.
    pub fn take_failure(&self) -> Option<io::Error> {
        self.form.failure.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

async fn answer(form: Arc<Form>, request: Request<Incoming>) -> Result<Response<Empty<Bytes>>, HangUp> {
    let path = request.uri().path().trim_start_matches('/').to_owned();
    let id = path.strip_prefix(&form.name).and_then(|rest| rest.strip_prefix('/'));
    let Some(id) = id.filter(|id| form.knows(id)) else { return Ok(status(StatusCode::NOT_FOUND)) };
    match *request.method() {
        Method::HEAD => form.held(id),
        Method::POST => match form.take(id, request).await {
            Err(HangUp::File(error)) => {
                *form.failure.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                Ok(status(StatusCode::INSUFFICIENT_STORAGE))
            }
            answer => answer,
        },
        _ => Ok(status(StatusCode::METHOD_NOT_ALLOWED)),
    }
}

fn status(status: StatusCode) -> Response<Empty<Bytes>> {
    let mut response = Response::new(Empty::new());
    *response.status_mut() = status;
    response
}

fn number(request: &Request<Incoming>, field: impl hyper::header::AsHeaderName) -> Option<u64> {
    request.headers().get(field)?.to_str().ok()?.parse().ok()
}

impl Form {
    fn knows(&self, id: &str) -> bool {
        self.breaks.lock().unwrap_or_else(PoisonError::into_inner).contains_key(id)
    }

    fn held(&self, id: &str) -> Result<Response<Empty<Bytes>>, HangUp> {
        let length = self.folder.join(id).metadata().map_or(0, |metadata| metadata.len());
        let mut response = status(StatusCode::NO_CONTENT);
        response.headers_mut().insert(OFFSET_FIELD, length.into());
        Ok(response)
    }

    async fn take(&self, id: &str, request: Request<Incoming>) -> Result<Response<Empty<Bytes>>, HangUp> {
        match number(&request, CONTENT_LENGTH) {
            None => return Ok(status(StatusCode::LENGTH_REQUIRED)),
            Some(length) if length > self.limit => return Ok(status(StatusCode::PAYLOAD_TOO_LARGE)),
            Some(_) => {}
        }
        let offset = number(&request, OFFSET_FIELD).unwrap_or(0);
        let mut file = File::options().create(true).append(true).open(self.folder.join(id))?;
        if file.metadata()?.len() != offset {
            return Ok(status(StatusCode::CONFLICT));
        }
        let content_type = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok());
        let boundary = multer::parse_boundary(content_type.unwrap_or_default())?;
        let mut parts = multer::Multipart::new(BodyDataStream::new(request.into_body()), boundary);
        let Some(mut part) = parts.next_field().await? else { return Ok(status(StatusCode::BAD_REQUEST)) };
        let mut held = offset;
        while let Some(bytes) = part.chunk().await? {
            let kept = self.up_to_a_break(id, held, &bytes);
            file.write_all(&bytes[..kept])?;
            held += kept as u64;
            if kept < bytes.len() {
                return Err(HangUp::Meant);
            }
        }
        Ok(status(StatusCode::CREATED))
    }

    /// How many of these bytes come in before the next break; a break happens once.
    fn up_to_a_break(&self, id: &str, held: u64, bytes: &[u8]) -> usize {
        let mut breaks = self.breaks.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(left) = breaks.get_mut(id) else { return bytes.len() };
        match left.last() {
            Some(next) if *next < held + bytes.len() as u64 => {
                let kept = next.saturating_sub(held) as usize;
                left.pop();
                kept
            }
            _ => bytes.len(),
        }
    }
}
