//! Decoding gzip, xz and zstd, as their own tools do, in bounded memory.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, Write};
use std::path::Path;

use flate2::bufread::GzDecoder;
use liblzma::bufread::XzDecoder;
use liblzma::stream::{Action, CONCATENATED, Error as XzError, Stream};
use vshelf_files::pieces::for_each_piece;

use super::limits::UnpackError;
use crate::pipe::{PipeReader, PipeWriter};

/// The most memory that a decoder takes while an archive comes, in bytes: enough for what tools write
/// unless they are told to look far back.
pub const STREAMED_MEMORY: u64 = 1 << STREAMED_MEMORY_LOG;
const STREAMED_MEMORY_LOG: u32 = 24;

/// The most memory that a decoder takes once the archive's digest was right, in bytes.
const VERIFIED_MEMORY: u64 = 1 << VERIFIED_MEMORY_LOG;
const VERIFIED_MEMORY_LOG: u32 = 30;

/// What xz needs besides its dictionary (liblzma, lzma_raw_decoder_memusage).
const XZ_OVERHEAD: u64 = 1 << 20;

/// Decodes by the archive's first bytes, whatever its name says. What needs much memory comes whole into
/// a file without a name in `spool` first.
pub(super) fn decode(
    mut input: PipeReader,
    mut decoded: PipeWriter,
    spool: &Path,
) -> Result<(), UnpackError> {
    let first = input.fill_buf().map_err(UnpackError::Damaged)?;
    if first.starts_with(&[0x1f, 0x8b]) {
        decode_gzip(input, &mut decoded)?;
    } else if first.starts_with(b"\xfd7zXZ\0") {
        match xz_fits(first) {
            true => decode_xz(input, STREAMED_MEMORY, &mut decoded)?,
            false => decode_xz(spooled(input, spool)?, VERIFIED_MEMORY, &mut decoded)?,
        }
    } else if first.starts_with(&ZSTD_FRAME) {
        match zstd_window(first).is_none_or(|window| window <= STREAMED_MEMORY) {
            true => decode_zstd(input, STREAMED_MEMORY_LOG, &mut decoded)?,
            false => decode_zstd(spooled(input, spool)?, VERIFIED_MEMORY_LOG, &mut decoded)?,
        }
    } else {
        return Err(UnpackError::Format);
    }
    decoded.finish().map_err(UnpackError::Damaged)
}

/// All of `input` in a file: that ends well only where the digest was right.
fn spooled(mut input: PipeReader, folder: &Path) -> Result<BufReader<File>, UnpackError> {
    let write_error = |source| UnpackError::Write {
        path: folder.to_owned(),
        source,
    };
    let mut file = tempfile::tempfile_in(folder).map_err(write_error)?;
    for_each_piece(&mut input, UnpackError::Damaged, |piece| {
        file.write_all(piece).map_err(write_error)
    })?;
    file.rewind().map_err(write_error)?;
    Ok(BufReader::new(file))
}

/// One member after the other, and zeros behind the last, which tapes and some tools leave (gzip manual,
/// "Tapes").
fn decode_gzip(mut input: impl BufRead, decoded: &mut PipeWriter) -> Result<(), UnpackError> {
    loop {
        let mut member = GzDecoder::new(input);
        copy(&mut member, decoded)?;
        input = member.into_inner();
        match input.fill_buf().map_err(UnpackError::Damaged)? {
            [] => return Ok(()),
            [0, ..] => break,
            _ => {}
        }
    }
    for_each_piece(&mut input, UnpackError::Damaged, |piece| {
        match piece.iter().all(|byte| *byte == 0) {
            true => Ok(()),
            false => Err(UnpackError::Damaged(io::Error::new(
                io::ErrorKind::InvalidData,
                "something else than another member stands behind the last",
            ))),
        }
    })
}

/// Whether the first block of an xz stream, which its beginning tells, decodes in the memory of one that
/// comes.
fn xz_fits(first: &[u8]) -> bool {
    let Ok(mut stream) = Stream::new_stream_decoder(STREAMED_MEMORY + XZ_OVERHEAD, CONCATENATED)
    else {
        return true;
    };
    let mut out = [0; 64];
    // Whatever else is wrong with it is told by decoding.
    let tried = stream.process(first, &mut out, Action::Run);
    !matches!(tried, Err(XzError::MemLimit))
}

fn decode_xz(
    input: impl BufRead,
    memory: u64,
    decoded: &mut PipeWriter,
) -> Result<(), UnpackError> {
    let stream = Stream::new_stream_decoder(memory + XZ_OVERHEAD, CONCATENATED)
        .map_err(|error| UnpackError::Damaged(error.into()))?;
    copy(&mut XzDecoder::new_stream(input, stream), decoded)
}

/// What a zstd frame begins with (RFC 8878, §3.1.1).
const ZSTD_FRAME: [u8; 4] = [0x28, 0xb5, 0x2f, 0xfd];

/// How far the first frame of a zstd stream looks back, in bytes; nothing where it is as long as its
/// contents (RFC 8878, §3.1.1.1.2).
fn zstd_window(first: &[u8]) -> Option<u64> {
    let (descriptor, window) = (*first.get(4)?, *first.get(5)?);
    let is_single_segment = descriptor & 0x20 != 0;
    if is_single_segment {
        return None;
    }
    let base = 1 << (10 + u32::from(window >> 3));
    Some(base + base / 8 * u64::from(window & 7))
}

fn decode_zstd(
    input: impl BufRead,
    window_log: u32,
    decoded: &mut PipeWriter,
) -> Result<(), UnpackError> {
    let mut decoder = zstd::Decoder::with_buffer(input).map_err(UnpackError::Damaged)?;
    decoder
        .window_log_max(window_log)
        .map_err(UnpackError::Damaged)?;
    copy(&mut decoder, decoded)
}

fn copy(from: &mut impl Read, to: &mut PipeWriter) -> Result<(), UnpackError> {
    for_each_piece(from, UnpackError::Damaged, |piece| {
        to.write_all(piece).map_err(UnpackError::Damaged)
    })
}
