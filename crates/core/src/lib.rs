//! Under Seal's computation: sealing folders into volumes, and everything on the way back.
//!
//! This crate prints nothing, asks nothing and reads no environment. Whatever it needs from outside comes
//! in through one [`ground::context::Context`]. It has six floors; each uses only those above it in this list:
//!
//! - [`ground`]: what knows no file and no format.
//! - [`disk`]: the only floor that knows the system: folders, files, names, sync, and the all-or-nothing placing of a set.
//! - [`codecs`]: compressing and decompressing, a block or a stream.
//! - [`source`]: what goes in. What is chosen, the walk that makes a catalogue, and reading a file that may change meanwhile.
//! - [`landing`]: what comes out: extraction to disk without harm to what is there. It does not know the format, nor [`source`].
//! - [`formats`]: archives of every format: recognised, read and written.
//! - [`tasks`]: what people do, a room for each command, called like it.
//!
//! Beside the floors stands [`error`]: every floor's error under one roof, and the class behind an exit code.
//!
//! Packing flows `source → records → frames → cells → volumes → disk`. Opening flows the same way back, into
//! `landing`. docs/format.md gives every byte between.
//!
//! # Pack, check, open
//!
//! ```
//! use std::fs;
//! use under_seal_core::formats::sealed::volume::VolumeSet;
//! use under_seal_core::formats::sealed::{KeyCost, SealedReader};
//! use under_seal_core::ground::context::{Context, NoRandomness, Observer, Progress, Randomness};
//! use under_seal_core::ground::entry::Timestamp;
//! use under_seal_core::ground::ownership::OwnerKey;
//! use under_seal_core::ground::secrets::{Credentials, Password};
//! use under_seal_core::source::Choice;
//! use under_seal_core::tasks::check::inspect;
//! use under_seal_core::tasks::open::open;
//! use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
//!
//! // What the core needs from outside. A program shows progress, and takes its randomness from the system.
//! struct Outside;
//! impl Observer for Outside {
//!     fn told(&self, _: Progress<'_>) {}
//! }
//! impl Randomness for Outside {
//!     fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
//!         buffer.fill(7);
//!         Ok(())
//!     }
//! }
//! let (clock, owner_key) = (Timestamp::default, || OwnerKey::new(&[7; 32]));
//! let context = Context {
//!     observer: &Outside,
//!     cancel: &|| false,
//!     randomness: &Outside,
//!     clock: &clock,
//!     owner_key: &owner_key,
//!     threads: 1,
//! };
//!
//! let desk = tempfile::tempdir()?;
//! let source = desk.path().join("letters");
//! fs::create_dir(&source)?;
//! fs::write(source.join("keeper.txt"), "The lamp is lit.")?;
//!
//! // Pack: what stands in the way is known before anything is written; what is written is read back before it gets its name.
//! let (sources, choice) = ([source], Choice::default());
//! let target = Target { folder: desk.path().join("out"), stem: "letters".into() };
//! let credentials = [Credentials::from(Password::new("twelve panes of salted glass")?)];
//! let delivery = Delivery::prepare(&PackRequest::new(&sources, &choice, &target), &context)?;
//! let packed = delivery.pack(&credentials, KeyCost::CHEAPEST, &context)?;
//! assert!(packed.volumes[0].path.ends_with("letters.useal"));
//!
//! // Check, without the password.
//! let set = VolumeSet::gather(&[target.folder], &context)?;
//! assert!(inspect(&set, &context)?.is_complete());
//!
//! // Open.
//! let mut archive = SealedReader::unlock(set, &credentials[0])?;
//! let inbox = desk.path().join("inbox");
//! open(&mut archive, inbox.as_path(), &context)?;
//! assert_eq!(fs::read_to_string(inbox.join("letters/keeper.txt"))?, "The lamp is lit.");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod ground;

pub mod disk;

pub mod codecs;

pub mod source;

pub mod landing;

pub mod formats;

pub mod tasks;

pub mod error;

pub use error::{Error, ErrorClass};
