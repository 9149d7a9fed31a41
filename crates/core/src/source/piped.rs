//! Content that comes out of an archive, as sources that are read like files: one thread extracts, another reads, and nothing goes to
//! disk between them.

use crate::disk::{FileAction, FileError};
use crate::ground::context::Cancelled;
use crate::ground::entry::{Content, Entry, EntryKind};
use crate::ground::sink::EntrySink;
use crossbeam_channel::{Receiver, Sender, bounded};
use std::io;
use std::path::Path;

/// Pieces of content that are extracted and not read yet.
const PIECES_AHEAD: usize = 16;

/// What goes through the pipe.
#[derive(Debug)]
enum Piece {
    /// The file at this place of the catalogue begins.
    Begin(usize),
    Bytes(Vec<u8>),
    /// Its content is complete and right.
    End,
    /// All files are through.
    Last,
}

/// Where an archive is extracted to.
pub struct PipeSink<'a> {
    pieces: Sender<Piece>,
    /// The place in the catalogue of a file of the archive.
    place_of: &'a (dyn Fn(&Entry) -> Option<usize> + Sync),
    /// Whether the file that is extracted now goes through.
    is_wanted: bool,
}

/// Where its files come out.
#[derive(Debug)]
pub struct Pipe {
    pieces: Receiver<Piece>,
}

/// A pipe for files that have a place in a catalogue.
pub fn pipe<'a>(place_of: &'a (dyn Fn(&Entry) -> Option<usize> + Sync)) -> (PipeSink<'a>, Pipe) {
    let (sender, receiver) = bounded(PIECES_AHEAD);
    (PipeSink { pieces: sender, place_of, is_wanted: false }, Pipe { pieces: receiver })
}

impl PipeSink<'_> {
    /// All of it was extracted.
    ///
    /// # Errors
    /// [`Cancelled`] where nobody reads any more.
    pub fn finish(self) -> Result<(), Cancelled> {
        self.send(Piece::Last)
    }

    fn send(&self, piece: Piece) -> Result<(), Cancelled> {
        self.pieces.send(piece).map_err(|_| Cancelled)
    }
}

impl EntrySink for PipeSink<'_> {
    fn begin(&mut self, entry: &Entry) -> Result<(), Cancelled> {
        let place = (self.place_of)(entry).filter(|_| entry.kind == EntryKind::File);
        self.is_wanted = place.is_some();
        place.map_or(Ok(()), |place| self.send(Piece::Begin(place)))
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        if self.is_wanted { self.send(Piece::Bytes(bytes.to_vec())) } else { Ok(()) }
    }

    fn end(&mut self, _: &Entry, _: &Content) -> Result<(), Cancelled> {
        if self.is_wanted { self.send(Piece::End) } else { Ok(()) }
    }
}

impl Pipe {
    /// The next file: its place in the catalogue, and its content. What was not read of the one before is passed over.
    ///
    /// # Errors
    /// [`Cancelled`] where the extraction ended before its end: whoever extracts knows why.
    pub(super) fn next(&self) -> Result<Option<(usize, PipedContent)>, Cancelled> {
        loop {
            match self.pieces.recv().map_err(|_| Cancelled)? {
                Piece::Last => return Ok(None),
                Piece::Begin(place) => {
                    let pieces = self.pieces.clone();
                    return Ok(Some((place, PipedContent { pieces, piece: Vec::new(), read: 0, ended: false })));
                }
                Piece::Bytes(_) | Piece::End => {}
            }
        }
    }
}

/// The content of one file.
#[derive(Debug)]
pub struct PipedContent {
    pieces: Receiver<Piece>,
    piece: Vec<u8>,
    /// So many bytes of the piece were read.
    read: usize,
    ended: bool,
}

impl PipedContent {
    /// Appends the next bytes, at most `most`; fewer only at its end.
    pub(super) fn read(&mut self, output: &mut Vec<u8>, mut most: usize) -> Result<(), FileError> {
        while most > 0 && !self.ended {
            let there = &self.piece[self.read..];
            if there.is_empty() {
                self.next_piece()?;
                continue;
            }
            let now = &there[..there.len().min(most)];
            output.extend_from_slice(now);
            (self.read, most) = (self.read + now.len(), most - now.len());
        }
        Ok(())
    }

    fn next_piece(&mut self) -> Result<(), FileError> {
        match self.pieces.recv() {
            Ok(Piece::Bytes(bytes)) => (self.piece, self.read) = (bytes, 0),
            Ok(Piece::End) => self.ended = true,
            // Whoever extracts has met an error, and tells it.
            _ => return Err(FileError::on(FileAction::Read, Path::new(""))(io::ErrorKind::UnexpectedEof.into())),
        }
        Ok(())
    }
}
