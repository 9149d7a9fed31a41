//! Upload: a server on this machine's own loopback address, with a form (RFC 7578) that takes requests up to a limit and
//! breaks some of them off, and a client that asks how much is there and goes on.

mod server;

use super::{COPIED_BYTES, Carried, CarryError, Choices, Load, Sent, Trip, carried_one, lose};
use crate::disk::{FileAction, FileError, Links, open_regular};
use crate::ground::codes::hexadecimal;
use crate::ground::context::Context;
use server::{Breaks, OFFSET_FIELD, Server};
use std::io::{self, Cursor, Read, Seek as _, SeekFrom};
use std::time::Duration;
use ureq::http::StatusCode;
use ureq::{Agent, SendBody};

/// Of this many uploads one is broken off, on average; some more than once.
const ONE_BROKEN_OF: u64 = 3;

/// An upload breaks off at most so many times.
const MOST_BREAKS: u64 = 3;

/// An upload that gets no further this often is given up.
const TRIES_WITHOUT_PROGRESS: u32 = 5;

/// The server is on this machine; an answer that takes longer does not come.
const ANSWER_WITHIN: Duration = Duration::from_secs(30);

/// What stands between the parts of a form; long enough never to be in a volume by chance (RFC 2046 section 5.1.1).
const BOUNDARY: &str = "under-seal-rehearsal-7d1f0c52a9e84b36";

pub(super) fn carry(
    limit: u64,
    load: &Load<'_>,
    choices: &mut Choices,
    context: &Context<'_>,
) -> Result<Carried, CarryError> {
    let (kept, lost) = lose(load.volumes.iter().collect(), load.lost, choices)?;
    let order = choices.shuffled(kept);
    let breaks = order.iter().enumerate().map(|(place, volume)| (id_of(place), breaks_of(volume, choices))).collect();
    let name = hexadecimal(&context.random::<16>()?);
    let server = Server::start(name, limit, load.inbox, breaks).map_err(CarryError::NoServer)?;
    let client = Client::to(&server);
    let mut carried = Carried::without(lost.into_iter().map(|volume| Trip::of([volume], volume.bytes)));
    for (place, volume) in order.into_iter().enumerate() {
        let id = id_of(place);
        let trip = client.upload(&id, volume, context)?;
        if !trip.refused {
            let mut stored = load.inbox.join(id);
            if load.keep_names {
                let named = load.inbox.join(volume.name());
                std::fs::rename(&stored, &named).map_err(FileError::on(FileAction::Rename, &named))?;
                stored = named;
            }
            carried.arrived.push((volume.number, stored));
        }
        carried.trips.push(trip);
        carried_one(volume, context);
    }
    Ok(carried)
}

/// What the server calls an upload, and keeps it as.
fn id_of(place: usize) -> String {
    format!("upload-{:04}", place + 1)
}

/// Where the server breaks an upload off, in bytes of the file. The first one always is, once.
fn breaks_of(volume: &Sent, choices: &mut Choices) -> Breaks {
    let times = match choices.below(ONE_BROKEN_OF) {
        0 => 1 + choices.below(MOST_BREAKS),
        _ => u64::from(volume.number == 1),
    };
    let mut breaks: Vec<u64> = (0..times).map(|_| choices.below(volume.bytes)).collect();
    breaks.sort_unstable_by(|one, other| other.cmp(one));
    breaks
}

/// The sender's side.
struct Client<'a> {
    agent: Agent,
    server: &'a Server,
}

/// What came of one request.
enum Answer {
    Taken,
    Refused,
    BrokenOff(String),
}

impl<'a> Client<'a> {
    fn to(server: &'a Server) -> Self {
        let configuration = Agent::config_builder()
            .proxy(None)
            .http_status_as_error(false)
            .timeout_recv_response(Some(ANSWER_WITHIN))
            .timeout_connect(Some(ANSWER_WITHIN));
        Self { agent: configuration.build().into(), server }
    }

    fn upload(&self, id: &str, volume: &Sent, context: &Context<'_>) -> Result<Trip, CarryError> {
        let mut trip = Trip::of([volume], 0);
        let (mut offset, mut stuck) = (0, 0);
        loop {
            let (answer, sent) = self.request(id, volume, offset, context)?;
            trip.bytes += sent;
            let why = match answer {
                Answer::Taken => return Ok(trip),
                Answer::Refused => return Ok(Trip { refused: true, bytes: wrapped(volume, 0).1, ..trip }),
                Answer::BrokenOff(why) => why,
            };
            context.go_on()?;
            trip.broken_off += 1;
            let there = self.held(id).unwrap_or(offset);
            stuck = if there > offset { 0 } else { stuck + 1 };
            if let Some(error) = self.server.take_failure() {
                return Err(FileError::on(FileAction::Write, self.server.folder().join(id))(error).into());
            }
            if stuck > TRIES_WITHOUT_PROGRESS {
                return Err(CarryError::Upload(why));
            }
            offset = there;
        }
    }

    /// Sends what is behind the offset, wrapped as a form; what came of it, and how many bytes went.
    fn request(
        &self,
        id: &str,
        volume: &Sent,
        offset: u64,
        context: &Context<'_>,
    ) -> Result<(Answer, u64), CarryError> {
        let (mut file, _) = open_regular(&volume.path, Links::Follow)?;
        file.seek(SeekFrom::Start(offset)).map_err(FileError::on(FileAction::Read, &volume.path))?;
        let ([before, behind], length) = wrapped(volume, offset);
        let body = Cursor::new(before).chain(file.take(volume.bytes - offset)).chain(Cursor::new(behind));
        let mut body = Counted { body, bytes: 0, context };
        let mut request = self
            .agent
            .post(self.server.address_of(id))
            .header("Content-Type", format!("multipart/form-data; boundary={BOUNDARY}"))
            .header("Content-Length", length.to_string())
            // So that what is too long is refused before it is sent (RFC 9110 section 10.1.1).
            .header("Expect", "100-continue");
        if offset > 0 {
            request = request.header(OFFSET_FIELD, offset.to_string());
        }
        let answer = match request.send(SendBody::from_reader(&mut body)) {
            Ok(answer) if answer.status() == StatusCode::CREATED => Answer::Taken,
            Ok(answer) if answer.status() == StatusCode::PAYLOAD_TOO_LARGE => Answer::Refused,
            Ok(answer) => Answer::BrokenOff(answer.status().to_string()),
            Err(error) => Answer::BrokenOff(error.to_string()),
        };
        Ok((answer, body.bytes))
    }

    /// How much of an upload the server has.
    fn held(&self, id: &str) -> Option<u64> {
        let answer = self.agent.head(self.server.address_of(id)).call().ok()?;
        answer.headers().get(OFFSET_FIELD)?.to_str().ok()?.parse().ok()
    }
}

/// What stands before and behind a file in a form's body (RFC 7578 section 4), and the body's length in bytes.
fn wrapped(volume: &Sent, offset: u64) -> ([Vec<u8>; 2], u64) {
    let name = volume.name().replace(['"', '\r', '\n'], "_");
    let before = format!(
        "--{BOUNDARY}\r\nContent-Disposition: form-data; name=\"file\"; filename=\"{name}\"\r\n\
         Content-Type: application/octet-stream\r\n\r\n"
    );
    let behind = format!("\r\n--{BOUNDARY}--\r\n");
    let length = before.len() as u64 + volume.bytes.saturating_sub(offset) + behind.len() as u64;
    ([before.into_bytes(), behind.into_bytes()], length)
}

/// A body that counts what goes, and stops where the user wants to.
struct Counted<'a, R> {
    body: R,
    bytes: u64,
    context: &'a Context<'a>,
}

impl<R: Read> Read for Counted<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.context.go_on().map_err(io::Error::other)?;
        let room = buffer.len().min(COPIED_BYTES);
        let count = self.body.read(&mut buffer[..room])?;
        self.bytes += count as u64;
        Ok(count)
    }
}
