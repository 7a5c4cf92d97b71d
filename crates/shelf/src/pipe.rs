//! A bounded pipe of byte pieces between two threads.
//!
//! Buffers travel back and are used again, so that a pipe's memory is its depth times its piece. A
//! writer that is dropped before it finished makes the reader fail rather than see an early end.

use std::io::{self, BufRead, Read, Write};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};

/// The bytes in one piece.
const PIECE: usize = 256 << 10;

/// The pieces under way at a time.
const DEPTH: usize = 8;

enum Message {
    Piece(Vec<u8>),
    End,
}

/// The end that bytes go into.
#[derive(Debug)]
pub struct PipeWriter {
    full: SyncSender<Message>,
    empty: Receiver<Vec<u8>>,
    piece: Vec<u8>,
    made: usize,
}

/// The end that bytes come out of.
#[derive(Debug)]
pub struct PipeReader {
    full: Receiver<Message>,
    empty: Sender<Vec<u8>>,
    piece: Vec<u8>,
    read: usize,
    ended: bool,
}

/// A new pipe.
pub fn pipe() -> (PipeWriter, PipeReader) {
    let (full_in, full_out) = sync_channel(DEPTH);
    let (empty_in, empty_out) = channel();
    let writer = PipeWriter {
        full: full_in,
        empty: empty_out,
        piece: Vec::with_capacity(PIECE),
        made: 1,
    };
    let reader = PipeReader {
        full: full_out,
        empty: empty_in,
        piece: Vec::new(),
        read: 0,
        ended: false,
    };
    (writer, reader)
}

fn gone() -> io::Error {
    io::Error::new(io::ErrorKind::BrokenPipe, "the other end stopped")
}

impl PipeWriter {
    /// Sends what is left and tells the reader that this is all.
    pub fn finish(mut self) -> io::Result<()> {
        self.flush()?;
        self.full.send(Message::End).map_err(|_| gone())
    }

    fn next_piece(&mut self) -> io::Result<Vec<u8>> {
        if let Ok(mut used) = self.empty.try_recv() {
            used.clear();
            return Ok(used);
        }
        // One piece is being filled and one being read besides those under way.
        if self.made < DEPTH + 2 {
            self.made += 1;
            return Ok(Vec::with_capacity(PIECE));
        }
        let mut used = self.empty.recv().map_err(|_| gone())?;
        used.clear();
        Ok(used)
    }
}

impl Write for PipeWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let fits = bytes.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&bytes[..fits]);
        if self.piece.len() == PIECE {
            self.flush()?;
        }
        Ok(fits)
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.piece.is_empty() {
            return Ok(());
        }
        let next = self.next_piece()?;
        let full = std::mem::replace(&mut self.piece, next);
        self.full.send(Message::Piece(full)).map_err(|_| gone())
    }
}

impl BufRead for PipeReader {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        while self.read == self.piece.len() && !self.ended {
            match self.full.recv() {
                Ok(Message::Piece(piece)) => {
                    let used = std::mem::replace(&mut self.piece, piece);
                    self.read = 0;
                    // A writer that already finished needs no more buffers.
                    if used.capacity() > 0 && self.empty.send(used).is_err() {
                        continue;
                    }
                }
                Ok(Message::End) => self.ended = true,
                Err(_) => return Err(gone()),
            }
        }
        Ok(&self.piece[self.read..])
    }

    fn consume(&mut self, count: usize) {
        self.read += count;
    }
}

impl Read for PipeReader {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let ready = self.fill_buf()?;
        let count = ready.len().min(into.len());
        into[..count].copy_from_slice(&ready[..count]);
        self.consume(count);
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::thread;

    #[test]
    fn every_byte_arrives_in_order() {
        let sent: Vec<u8> = (0..PIECE * (DEPTH + 5) + 17)
            .map(|i| (i % 251) as u8)
            .collect();
        let (mut writer, mut reader) = pipe();
        let copy = sent.clone();
        let thread = thread::spawn(move || {
            for part in copy.chunks(100_003) {
                writer.write_all(part).unwrap();
            }
            writer.finish().unwrap();
        });
        let mut received = Vec::new();
        reader.read_to_end(&mut received).unwrap();
        thread.join().unwrap();
        assert!(received == sent);
    }

    #[test]
    fn an_unfinished_writer_is_an_error_and_not_an_end() {
        let (mut writer, mut reader) = pipe();
        writer.write_all(b"half").unwrap();
        writer.flush().unwrap();
        drop(writer);
        let mut received = Vec::new();
        assert!(reader.read_to_end(&mut received).is_err());
        assert_eq!(received, b"half");
    }

    #[test]
    fn a_writer_does_not_wait_for_a_reader_that_left() {
        let (mut writer, reader) = pipe();
        drop(reader);
        let plenty = vec![0; PIECE * (DEPTH + 3)];
        assert!(writer.write_all(&plenty).is_err());
    }
}
