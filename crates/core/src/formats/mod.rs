//! Formats: archives of every kind, known by their content and read in one way.
//!
//! [`reader`] is what the reader of each format offers; [`members`] makes safe paths of what an open format names, and refuses by
//! name what cannot be one. [`sealed`] is our own format, with its volumes; [`zip`], [`tar`], [`iso`] and [`lone`] are open ones.
//! [`archive`] recognises a file and hands it to the right reader.

pub mod archive;
pub mod iso;
pub mod lone;
pub mod members;
pub mod reader;
pub mod sealed;
pub mod tar;
pub mod zip;
