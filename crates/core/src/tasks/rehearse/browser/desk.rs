//! What the browser asks for at the loopback address, and what it brings.

use crate::formats::sealed::volume::in_page::{Form, VolumeBytes};
use crate::ground::secrets::Password;
use crate::tasks::page::{PAGE, PAGE_NAME};
use http_body_util::{BodyExt as _, Full};
use hyper::body::{Bytes, Incoming};
use hyper::header::CONTENT_TYPE;
use hyper::{Method, Request, Response, StatusCode};
use std::fs::{self, File};
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The page around the page: it does what a person would.
const PLAYER: &str = include_str!("player.html");

/// Files go over in pieces of at most so many bytes.
const PIECE_BYTES: u64 = 8 * 1024 * 1024;

/// What came of it in the browser.
#[derive(Debug)]
pub(super) struct Told {
    pub saved: bool,
    /// What the page said last.
    pub said: String,
}

/// What the recipient has.
pub(super) struct Given {
    pub files: Vec<PathBuf>,
    pub password: Option<Password>,
    pub key_file: Option<PathBuf>,
    /// The page, where it is not this program's own.
    pub page: Option<PathBuf>,
}

/// What is given out and taken in.
pub(super) struct Desk {
    /// The name under which all of this is; nobody else knows it.
    name: String,
    given: Given,
    saved: PathBuf,
    told: Sender<Told>,
    last_asked: Mutex<Instant>,
}

/// Why a connection hangs up.
#[derive(Debug, thiserror::Error)]
pub(super) enum HangUp {
    #[error(transparent)]
    Body(#[from] hyper::Error),
    #[error(transparent)]
    File(#[from] io::Error),
}

impl Desk {
    pub fn new(name: String, given: Given, saved: PathBuf) -> (Self, Receiver<Told>) {
        let (told, receiver) = channel();
        (Self { name, given, saved, told, last_asked: Mutex::new(Instant::now()) }, receiver)
    }

    /// How long nothing was asked for.
    pub fn idle(&self) -> Duration {
        self.last_asked.lock().unwrap_or_else(PoisonError::into_inner).elapsed()
    }

    pub async fn answer(self: Arc<Self>, request: Request<Incoming>) -> Result<Response<Full<Bytes>>, HangUp> {
        let path = request.uri().path().to_owned();
        let Some(wanted) = path.strip_prefix('/').and_then(|path| path.strip_prefix(&self.name)) else {
            return Ok(status(StatusCode::NOT_FOUND));
        };
        // Whoever does not know the name does not keep anybody waiting.
        *self.last_asked.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
        let wanted: Vec<&str> = wanted.split('/').skip(1).collect();
        let number = |text: &str| text.parse::<u64>().unwrap_or(u64::MAX);
        match (request.method(), wanted.as_slice()) {
            (&Method::GET, [""]) => Ok(html(PLAYER)),
            (&Method::GET, [name]) if *name == PAGE_NAME => Ok(html(self.page()?)),
            (&Method::GET, ["alive"]) => Ok(status(StatusCode::NO_CONTENT)),
            (&Method::GET, ["task"]) => Ok(Response::new(self.task()?.into())),
            (&Method::GET, ["file", file, from]) => self.piece(number(file), number(from)),
            (&Method::POST, ["saved", from]) => {
                let bytes = request.into_body().collect().await?.to_bytes();
                let mut file = File::options().create(true).truncate(false).write(true).open(&self.saved)?;
                file.seek(SeekFrom::Start(number(from)))?;
                file.write_all(&bytes)?;
                Ok(status(StatusCode::CREATED))
            }
            (&Method::POST, ["told", outcome]) => {
                let said = request.into_body().collect().await?.to_bytes();
                let said = String::from_utf8_lossy(&said).into_owned();
                // Whoever waited may have gone.
                let _ = self.told.send(Told { saved: *outcome == "saved", said });
                Ok(status(StatusCode::OK))
            }
            _ => Ok(status(StatusCode::NOT_FOUND)),
        }
    }

    /// The page that the recipient opens: what arrived, where that is a page itself, as far as a browser reads it as one.
    fn page(&self) -> Result<Bytes, HangUp> {
        let beside = || match &self.given.page {
            Some(page) => Ok(fs::read(page)?.into()),
            None => Ok(PAGE.into()),
        };
        let [only] = self.given.files.as_slice() else { return beside() };
        let in_page = VolumeBytes::open(&only.into()).map_err(|error| error.source)?.in_page;
        let Some(in_page) = in_page else { return beside() };
        let length = if in_page.form == Form::Raw { in_page.from } else { in_page.file_bytes() };
        let mut bytes = Vec::new();
        File::open(only)?.take(length).read_to_end(&mut bytes)?;
        Ok(bytes.into())
    }

    /// All files that the page is given: volumes, then the key file.
    fn files(&self) -> impl Iterator<Item = &PathBuf> {
        self.given.files.iter().chain(&self.given.key_file)
    }

    /// What is to be done, as JSON.
    fn task(&self) -> Result<String, io::Error> {
        let lengths = self.files().map(|file| Ok(file.metadata()?.len())).collect::<Result<Vec<_>, io::Error>>()?;
        let password = self.given.password.as_ref().map(|password| String::from_utf8_lossy(password.as_bytes()));
        let task = serde_json::json!({ "lengths": lengths, "volumes": self.given.files.len(), "password": password });
        Ok(task.to_string())
    }

    fn piece(&self, file: u64, from: u64) -> Result<Response<Full<Bytes>>, HangUp> {
        let Some(path) = usize::try_from(file).ok().and_then(|file| self.files().nth(file)) else {
            return Ok(status(StatusCode::NOT_FOUND));
        };
        let (mut file, mut bytes) = (File::open(path)?, Vec::new());
        file.seek(SeekFrom::Start(from))?;
        file.take(PIECE_BYTES).read_to_end(&mut bytes)?;
        Ok(Response::new(Full::from(bytes)))
    }
}

fn html(page: impl Into<Bytes>) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(page.into()));
    response.headers_mut().insert(CONTENT_TYPE, hyper::header::HeaderValue::from_static("text/html; charset=utf-8"));
    response
}

fn status(status: StatusCode) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::default());
    *response.status_mut() = status;
    response
}
