//! Content that comes out of an archive, as sources that are read like files: one thread extracts, another reads, and nothing goes to
//! disk between them.

use crate::disk::{FileAction, FileError};
use crate::ground::attributes::Attribute;
use crate::ground::context::Cancelled;
use crate::ground::entry::{Content, Entry, EntryKind};
use crate::ground::holes::Hole;
use crate::ground::sink::EntrySink;
use crossbeam_channel::{Receiver, Sender, bounded};
use std::collections::HashMap;
use std::io;
use std::path::Path;

/// Pieces of content that are extracted and not read yet.
const PIECES_AHEAD: usize = 16;

/// What goes through the pipe.
#[derive(Debug)]
enum Piece {
    /// The file at this place of the catalogue begins.
    Begin(usize),
    /// That at this place is a further name of one that went through.
    FurtherName(usize),
    Bytes(Vec<u8>),
    /// It has this extended attribute.
    Attribute(Attribute),
    /// So many zeros that are stored nowhere.
    Hole(u64),
    /// Its content is complete and right.
    End,
    /// All files are through.
    Last,
}

/// Where an archive is extracted to.
pub struct PipeSink<'a> {
    pieces: Sender<Piece>,
    place_of: PlaceOf<'a>,
    /// Whether further names go through as such.
    takes_further: TakesFurther<'a>,
    /// Whether the file that is extracted now goes through.
    is_wanted: bool,
}

/// Where its files come out.
#[derive(Debug)]
pub struct Pipe {
    pieces: Receiver<Piece>,
    /// The holes of files, by their places in the catalogue, as far as they are known before.
    holes: HashMap<usize, Vec<Hole>>,
}

/// What comes next out of a pipe.
#[derive(Debug)]
pub enum OutOfPipe {
    /// A file with its content.
    Content(PipedContent),
    /// A further name of a file that came before.
    FurtherName,
}

/// The place in the catalogue of a file of the archive.
pub type PlaceOf<'a> = &'a (dyn Fn(&Entry) -> Option<usize> + Sync);

/// Whether whoever writes takes the first of these for a further name of the second.
pub type TakesFurther<'a> = &'a (dyn Fn(&Entry, &Entry) -> bool + Sync);

/// A pipe for files that have a place in a catalogue, of which these holes are known by that.
pub fn pipe<'a>(
    place_of: PlaceOf<'a>,
    takes_further: TakesFurther<'a>,
    holes: HashMap<usize, Vec<Hole>>,
) -> (PipeSink<'a>, Pipe) {
    let (sender, receiver) = bounded(PIECES_AHEAD);
    (PipeSink { pieces: sender, place_of, takes_further, is_wanted: false }, Pipe { pieces: receiver, holes })
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

    fn attribute(&mut self, attribute: &Attribute) -> Result<(), Cancelled> {
        if self.is_wanted { self.send(Piece::Attribute(attribute.clone())) } else { Ok(()) }
    }

    fn content(&mut self, bytes: &[u8]) -> Result<(), Cancelled> {
        if self.is_wanted { self.send(Piece::Bytes(bytes.to_vec())) } else { Ok(()) }
    }

    fn hole(&mut self, bytes: u64) -> Result<(), Cancelled> {
        if self.is_wanted { self.send(Piece::Hole(bytes)) } else { Ok(()) }
    }

    fn further_name(&mut self, entry: &Entry, of: &Entry, _: &Content) -> Result<bool, Cancelled> {
        let Some(place) = (self.place_of)(entry).filter(|_| (self.takes_further)(entry, of)) else { return Ok(false) };
        self.send(Piece::FurtherName(place)).map(|()| true)
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
    pub(super) fn next(&self) -> Result<Option<(usize, OutOfPipe)>, Cancelled> {
        loop {
            match self.pieces.recv().map_err(|_| Cancelled)? {
                Piece::Last => return Ok(None),
                Piece::Begin(place) => {
                    let pieces = self.pieces.clone();
                    let content = PipedContent {
                        pieces,
                        piece: Vec::new(),
                        read: 0,
                        hole: 0,
                        attributes: Vec::new(),
                        holes: self.holes.get(&place).cloned().unwrap_or_default(),
                        ended: false,
                    };
                    return Ok(Some((place, OutOfPipe::Content(content))));
                }
                Piece::FurtherName(place) => return Ok(Some((place, OutOfPipe::FurtherName))),
                Piece::Bytes(_) | Piece::Hole(_) | Piece::Attribute(_) | Piece::End => {}
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
    /// So many zeros come first.
    hole: u64,
    attributes: Vec<Attribute>,
    /// Its holes, as far as they are known before.
    holes: Vec<Hole>,
    ended: bool,
}

impl PipedContent {
    /// Its holes in order, as far as they are known before they come.
    pub(super) fn holes(&self) -> &[Hole] {
        &self.holes
    }

    /// Appends the next bytes, at most `most`; fewer only at its end.
    pub(super) fn read(&mut self, output: &mut Vec<u8>, mut most: usize) -> Result<(), FileError> {
        while most > 0 && !self.ended {
            if self.hole > 0 {
                let now = most.min(usize::try_from(self.hole).unwrap_or(usize::MAX));
                output.resize(output.len() + now, 0);
                (self.hole, most) = (self.hole - now as u64, most - now);
                continue;
            }
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

    /// Its extended attributes, as long as nothing else of it was read.
    pub(super) fn attributes(&mut self) -> Result<Vec<Attribute>, FileError> {
        while !self.ended && self.hole == 0 && self.read == self.piece.len() {
            self.next_piece()?;
        }
        Ok(std::mem::take(&mut self.attributes))
    }

    /// Passes over a hole that begins here; how many bytes it has.
    pub(super) fn pass_hole(&mut self) -> Result<Option<u64>, FileError> {
        if self.hole == 0 && self.read == self.piece.len() && !self.ended {
            self.next_piece()?;
        }
        Ok(Some(std::mem::take(&mut self.hole)).filter(|bytes| *bytes > 0))
    }

    fn next_piece(&mut self) -> Result<(), FileError> {
        match self.pieces.recv() {
            Ok(Piece::Bytes(bytes)) => (self.piece, self.read) = (bytes, 0),
            Ok(Piece::Attribute(attribute)) => self.attributes.push(attribute),
            Ok(Piece::Hole(bytes)) => self.hole = bytes,
            Ok(Piece::End) => self.ended = true,
            // Whoever extracts has met an error, and tells it.
            _ => return Err(FileError::on(FileAction::Read, Path::new(""))(io::ErrorKind::UnexpectedEof.into())),
        }
        Ok(())
    }
}
