//! A reader with a budget: what the parsers of headers and tables of contents read into memory is bounded
//! here, whatever lengths an archive claims.

use std::cell::Cell;
use std::io::{self, Read, Seek, SeekFrom};

/// Bytes that may still be read.
#[derive(Debug, Default)]
pub(super) struct Budget {
    left: Cell<Option<u64>>,
}

impl Budget {
    /// From now on so many bytes may be read.
    pub(super) fn allow(&self, bytes: u64) {
        self.left.set(Some(bytes));
    }

    /// From now on somebody else counts.
    pub(super) fn lift(&self) {
        self.left.set(None);
    }

    /// Whether more was asked for than was allowed.
    pub(super) fn is_spent(&self) -> bool {
        self.left.get() == Some(0)
    }
}

/// A reader that fails when its budget is spent.
#[derive(Debug)]
pub(super) struct Budgeted<'b, R> {
    inner: R,
    budget: &'b Budget,
}

impl<'b, R> Budgeted<'b, R> {
    pub(super) fn new(inner: R, budget: &'b Budget) -> Self {
        Budgeted { inner, budget }
    }
}

impl<R: Read> Read for Budgeted<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let Some(left) = self.budget.left.get() else {
            return self.inner.read(into);
        };
        if left == 0 && !into.is_empty() {
            return Err(io::Error::other("more was read than belongs there"));
        }
        let most = into.len().min(usize::try_from(left).unwrap_or(usize::MAX));
        let count = self.inner.read(&mut into[..most])?;
        self.budget.left.set(Some(left - count as u64));
        Ok(count)
    }
}

impl<R: Seek> Seek for Budgeted<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.inner.seek(to)
    }
}
