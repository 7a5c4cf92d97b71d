//! Locks between processes: advisory locks on files, which the system drops with their holder.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use crate::system;

/// A lock that is held until it is dropped.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

/// Why a lock could not be had.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Another process holds it for longer than one waits.
    #[error("{path} is locked by {holder}")]
    Held {
        /// The lock's file.
        path: PathBuf,
        /// Who holds it, as it said itself.
        holder: String,
    },
    /// The lock's file cannot be used.
    #[error("{path} cannot be locked")]
    File {
        /// The lock's file.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
}

impl Lock {
    /// Waits up to `patience` for the lock at `path`; `on_wait` is told once whom it waits for.
    pub fn acquire(
        path: &Path,
        patience: Duration,
        on_wait: &mut dyn FnMut(&str),
    ) -> Result<Lock, LockError> {
        let failed = |source| LockError::File {
            path: path.to_owned(),
            source,
        };
        let deadline = Instant::now() + patience;
        let mut told = false;
        loop {
            if let Some(lock) = Lock::try_acquire(path).map_err(failed)? {
                tracing::debug!(path = %path.display(), "acquired a lock");
                return Ok(lock);
            }
            let holder = holder_of(path).map_err(failed)?;
            if Instant::now() >= deadline {
                tracing::debug!(path = %path.display(), %holder, "gave up waiting for a lock");
                return Err(LockError::Held {
                    path: path.to_owned(),
                    holder,
                });
            }
            if !told {
                tracing::debug!(path = %path.display(), %holder, "waiting for a lock");
                on_wait(&holder);
                told = true;
            }
            thread::sleep(Duration::from_millis(50));
        }
    }

    /// Takes the lock if nobody holds it.
    pub fn try_acquire(path: &Path) -> io::Result<Option<Lock>> {
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        let mut file = loop {
            let file = OpenOptions::new()
                .create(true)
                .truncate(false)
                .read(true)
                .write(true)
                .open(path)?;
            match file.try_lock() {
                Ok(()) => {}
                Err(TryLockError::WouldBlock) => return Ok(None),
                Err(TryLockError::Error(error)) => return Err(error),
            }
            // Whoever held it may have deleted the file before it was free: then it locks nothing.
            if system::stands_at(&file, path)? {
                break file;
            }
        };
        // Who holds it is for others to read; on a full disk they do without.
        let told = file
            .set_len(0)
            .and_then(|()| file.rewind())
            .and_then(|()| write!(file, "process {}", std::process::id()));
        told.unwrap_or_default();
        Ok(Some(Lock { _file: file }))
    }
}

fn holder_of(path: &Path) -> io::Result<String> {
    let mut text = String::new();
    File::open(path)?.take(100).read_to_string(&mut text)?;
    Ok(match text.is_empty() {
        true => "another process".to_owned(),
        false => text,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_held_lock_names_its_holder_and_is_free_afterwards() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("locks/8.3.1");
        let held = Lock::acquire(&path, Duration::ZERO, &mut |_| {}).unwrap();
        let mut waited_for = String::new();
        let error = Lock::acquire(&path, Duration::from_millis(80), &mut |holder| {
            waited_for = holder.to_owned();
        })
        .unwrap_err();
        let me = format!("process {}", std::process::id());
        assert_eq!(waited_for, me);
        assert!(error.to_string().ends_with(&format!("is locked by {me}")));
        drop(held);
        Lock::acquire(&path, Duration::ZERO, &mut |_| {}).unwrap();
    }
}
