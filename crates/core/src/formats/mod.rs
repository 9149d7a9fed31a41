//! Formats: archives of every kind, known by their content and read in one way.
//!
//! [`registry`] has a row for each format: how it is known, opened and written, and its [`abilities`]. [`reader`] is what the reader of
//! each offers, its entries by a [`listing`], [`archive`] an open archive of any; [`finding`] looks for one in the places
//! that somebody names. [`messages`] finds what is attached to mail, and a [`spot`] is
//! where anything lies that is read: in a file of its own, or attached to a message. [`members`] makes safe paths of what an open format names, and refuses by name
//! what cannot be one. [`sealed`] is our own format, with its volumes; [`zip`], [`tar`], [`cpio`], [`iso`] and [`lone`] are open
//! ones. What is read from its beginning to its end is [`streamed`]: [`tar`] and [`cpio`] tell only how to go from entry to entry. [`holes_ahead`] looks for holes where they
//! have to be known before contents come. [`error`] is why any of them cannot be read.
//!
//! A new format that is read is a folder of its own here, with an [`reader::ArchiveReader`], and a row in [`registry`].

pub mod abilities;
pub mod archive;
pub mod cpio;
pub mod error;
pub mod finding;
pub mod holes_ahead;
pub mod iso;
pub mod listing;
pub mod lone;
pub mod members;
pub mod messages;
pub mod reader;
pub mod registry;
pub mod sealed;
pub mod spot;
pub mod streamed;
pub mod tar;
pub mod zip;
