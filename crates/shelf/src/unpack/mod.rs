//! Unpacking an archive while it comes, with nothing written outside of its folder.
//!
//! Decoding runs on a thread of its own beside writing. Every entry is checked before it is
//! written: no absolute path, no `..`, no way through a link, no device, no second file of the same
//! name, and no more bytes or entries than any real build has. Links are checked once all are
//! known, since an innocent one can lead out through another.
//!
//! A zip archive has its table of contents at its end, so it comes whole into a file without a name
//! first. So does what takes much memory to decode: the pipe that brings an archive only ends well once
//! its digest is known to be right, and until then no archive gets more memory than [`STREAMED_MEMORY`].

mod budget;
mod decode;
mod from_tar;
mod from_zip;
mod limits;
mod root;
#[cfg(test)]
mod tests;
mod tree;

use std::fs::File;
use std::io::{self, BufRead};
use std::path::Path;
use std::thread;

use vshelf_core::definition::ArchiveLayout;

pub use decode::STREAMED_MEMORY;
pub use limits::{Bounds, UnpackError};
pub(crate) use tree::DEEPEST;

use self::decode::decode;
use self::from_tar::unpack_tar;
use self::from_zip::unpack_zip;
use crate::manifest::Manifest;
use crate::pipe::{PipeReader, pipe};

/// Unpacks the archive that `input` brings into the existing, empty folder `into`, as
/// `layout` says what of it becomes the install.
pub fn unpack(
    mut input: PipeReader,
    layout: &ArchiveLayout,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let first = input.fill_buf().map_err(UnpackError::Damaged)?;
    // The local header of a first entry, or the end of an archive without any (APPNOTE, §4.3).
    if first.starts_with(b"PK\x03\x04") || first.starts_with(b"PK\x05\x06") {
        return unpack_zip(input, layout, into, bounds);
    }
    let (decoded_in, decoded_out) = pipe();
    thread::scope(|scope| {
        let decoder = scope.spawn(move || decode(input, decoded_in, into));
        let unpacked = unpack_tar(decoded_out, layout, into, bounds);
        match (
            decoder.join().expect("the decoder does not panic"),
            unpacked,
        ) {
            (Ok(()), result) => result,
            // The decoder knows better why bytes stopped, unless it stopped because we did.
            (Err(UnpackError::Damaged(e)), Err(error)) if is_stop(&e) => Err(error),
            (Err(error), _) => Err(error),
        }
    })
}

/// Unpacks the archive in `file` as [`unpack`] does.
pub fn unpack_file(
    file: &mut File,
    layout: &ArchiveLayout,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let (mut writer, reader) = pipe();
    thread::scope(|scope| {
        let reading = scope.spawn(move || -> io::Result<()> {
            io::copy(file, &mut writer)?;
            writer.finish()
        });
        let unpacked = unpack(reader, layout, into, bounds);
        match (reading.join().expect("reading does not panic"), unpacked) {
            // When unpacking stops first, the reader only notices that nobody listens.
            (Err(error), _) if !is_stop(&error) => Err(UnpackError::Damaged(error)),
            (_, result) => result,
        }
    })
}

fn is_stop(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::BrokenPipe
}
