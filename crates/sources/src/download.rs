//! One archive: resumed where it broke off, verified to the last byte.
//!
//! The bytes go to a sink as they come, so that unpacking runs at the same time, and into a partial
//! file, so that the next attempt (also that of another process, later) goes on from there.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::PathBuf;

use vshelf_core::catalog::Digest;
use vshelf_files::optional;
use vshelf_files::pieces::for_each_piece;

use crate::address::Address;
use crate::checksums::Archive;
use crate::digest::Digester;
use crate::transport::{Transport, TransportError, Validators};

/// How many bytes an attempt has to bring so that those before it are forgotten: a long download
/// may break off often, but one that only trickles is given up.
const WORTHWHILE: u64 = 64 << 10;

/// An archive to bring.
#[derive(Clone, Debug)]
pub struct Download {
    /// What it is, and where it lies.
    pub archive: Archive,
    /// The file that keeps what has come so far, and all of it until [`Download::forget`].
    pub partial: PathBuf,
}

/// Why an archive could not be brought.
#[derive(Debug, thiserror::Error)]
pub enum DownloadError {
    /// The server or file does not give it.
    #[error(transparent)]
    Transport(#[from] TransportError),
    /// The bytes are not those that the catalog promises.
    #[error("{address} is not what its catalog promises")]
    Digest {
        /// What was fetched.
        address: Address,
        /// The digest in the catalog.
        expected: Digest,
        /// The digest of what came.
        found: Digest,
    },
    /// Another number of bytes than the catalog promises.
    #[error("{address} has {found} bytes, its catalog promises {expected}")]
    Size {
        /// What was fetched.
        address: Address,
        /// The bytes in the catalog.
        expected: u64,
        /// The bytes that came.
        found: u64,
    },
    /// The partial file cannot be written.
    #[error("{path} cannot be written")]
    Partial {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// Whoever takes the bytes does not want more.
    #[error("unpacking stopped")]
    Sink(#[source] io::Error),
}

/// Tells how far a download is: bytes so far, and all bytes where known.
pub type Progress<'p> = &'p mut dyn FnMut(u64, Option<u64>);

impl Download {
    /// Brings the archive: every byte goes to `sink` once and in order. Returns the number of bytes
    /// that came over the network.
    pub fn run(
        &self,
        transport: &Transport,
        sink: &mut dyn FnMut(&[u8]) -> io::Result<()>,
        progress: Progress<'_>,
    ) -> Result<u64, DownloadError> {
        let mut flow = Flow {
            digester: Digester::new(self.archive.digest.algorithm),
            bytes: 0,
            length: self.archive.size,
            sink,
            progress,
        };
        self.replay_partial(&mut flow)?;
        let replayed = flow.bytes;
        if self.archive.size != Some(replayed) {
            self.fetch_rest(transport, &mut flow)
                .or_else(|error| match error {
                    // Bytes of another length can never be gone on with.
                    DownloadError::Size { .. } => self.forget().and(Err(error)),
                    error => Err(error),
                })?;
        }
        let came = flow.bytes - replayed;
        self.verify(flow)?;
        Ok(came)
    }

    /// Feeds what an earlier attempt left behind.
    fn replay_partial(&self, flow: &mut Flow<'_, '_>) -> Result<(), DownloadError> {
        let partial = optional::open(&self.partial).map_err(|e| self.partial_error(e))?;
        let Some(mut file) = partial else {
            return Ok(());
        };
        let failed = |source| self.partial_error(source);
        for_each_piece(&mut file, failed, |piece| flow.pass(piece))
    }

    fn fetch_rest(
        &self,
        transport: &Transport,
        flow: &mut Flow<'_, '_>,
    ) -> Result<(), DownloadError> {
        let mut partial = OpenOptions::new()
            .append(true)
            .create(true)
            .open(&self.partial)
            .map_err(|e| self.partial_error(e))?;
        let addresses = &self.archive.addresses;
        let mut round = addresses.iter().cycle();
        let mut address = round.next().unwrap_or(addresses.first());
        let mut validators = Validators::default();
        let mut failures = 0;
        loop {
            let before = flow.bytes;
            let request = (address, &mut validators);
            let error = match self.fetch_once(transport, flow, &mut partial, request) {
                Ok(()) => return Ok(()),
                Err(error) => error,
            };
            let worthwhile = flow.bytes - before >= WORTHWHILE;
            failures = if worthwhile { 1 } else { failures + 1 };
            let passing = match &error {
                DownloadError::Transport(error) => error.is_passing(),
                _ => false,
            };
            // Another address has the same bytes, and goes on where this one broke off.
            let elsewhere = (failures as usize) < addresses.count()
                && matches!(
                    error,
                    DownloadError::Transport(_) | DownloadError::Size { .. }
                );
            let most = transport.patience().attempts * addresses.count() as u32;
            if !elsewhere && (!passing || failures >= most) {
                return Err(error);
            }
            if addresses.count() > 1 {
                address = round.next().unwrap_or(addresses.first());
                validators = Validators::default();
            }
            if !elsewhere {
                transport.pause_after(failures.div_ceil(addresses.count() as u32));
            }
        }
    }

    /// One request, from where the bytes broke off.
    fn fetch_once(
        &self,
        transport: &Transport,
        flow: &mut Flow<'_, '_>,
        partial: &mut File,
        (address, validators): (&Address, &mut Validators),
    ) -> Result<(), DownloadError> {
        let broken_off = |source| {
            DownloadError::Transport(TransportError::BrokenOff {
                address: address.clone(),
                source,
            })
        };
        let mut opened = match transport.open(address, flow.bytes, validators) {
            // All of it had come when the last attempt ended; the digest tells whether that is so.
            Err(TransportError::Status { status: 416, .. }) if flow.bytes > 0 => return Ok(()),
            result => result?,
        };
        *validators = opened.validators.clone();
        if let (Some(length), Some(expected)) = (opened.length, self.archive.size)
            && length != expected
        {
            return Err(wrong_size(address, expected, length));
        }
        flow.length = flow.length.or(opened.length);
        // A server without ranges starts over; what is already here need not pass again, and if
        // the beginning changed meanwhile, the digest tells.
        let mut skip = flow.bytes - opened.begins_at.min(flow.bytes);
        for_each_piece(&mut opened.reader, broken_off, |piece| {
            let known = skip.min(piece.len() as u64) as usize;
            skip -= known as u64;
            let fresh = &piece[known..];
            partial
                .write_all(fresh)
                .map_err(|e| self.partial_error(e))?;
            flow.pass(fresh)?;
            match self.archive.size {
                Some(expected) if flow.bytes > expected => {
                    Err(wrong_size(address, expected, flow.bytes))
                }
                _ => Ok(()),
            }
        })?;
        match opened.length {
            Some(length) if flow.bytes < length => {
                Err(broken_off(io::ErrorKind::UnexpectedEof.into()))
            }
            _ => Ok(()),
        }
    }

    fn verify(&self, flow: Flow<'_, '_>) -> Result<(), DownloadError> {
        let found = flow.bytes;
        let digest = flow.digester.finish();
        let address = self.archive.addresses.first();
        let wrong = match self.archive.size {
            Some(expected) if expected != found => wrong_size(address, expected, found),
            _ if digest != self.archive.digest => DownloadError::Digest {
                address: address.clone(),
                expected: self.archive.digest.clone(),
                found: digest,
            },
            _ => return Ok(()),
        };
        // Nothing that is wrong is worth resuming.
        self.forget().and(Err(wrong))
    }

    /// Deletes what is kept of the download, once it is not needed any more.
    pub fn forget(&self) -> Result<(), DownloadError> {
        let removed = optional::remove(&self.partial);
        removed.map(drop).map_err(|e| self.partial_error(e))
    }

    fn partial_error(&self, source: io::Error) -> DownloadError {
        DownloadError::Partial {
            path: self.partial.clone(),
            source,
        }
    }
}

fn wrong_size(address: &Address, expected: u64, found: u64) -> DownloadError {
    DownloadError::Size {
        address: address.clone(),
        expected,
        found,
    }
}

/// Where every byte goes: digest, sink, progress.
struct Flow<'s, 'p> {
    digester: Digester,
    bytes: u64,
    length: Option<u64>,
    sink: &'s mut dyn FnMut(&[u8]) -> io::Result<()>,
    progress: Progress<'p>,
}

impl Flow<'_, '_> {
    fn pass(&mut self, piece: &[u8]) -> Result<(), DownloadError> {
        self.digester.update(piece);
        self.bytes += piece.len() as u64;
        (self.progress)(self.bytes, self.length);
        (self.sink)(piece).map_err(DownloadError::Sink)
    }
}
