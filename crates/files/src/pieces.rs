//! Reading in pieces of a size that suits disks and decoders.

use std::io::{self, Read};

/// The bytes in one piece.
pub const PIECE: usize = 256 << 10;

/// Hands everything that `reader` has to `each`, piece by piece. A failure to read becomes an error
/// of the caller's by `failed`.
pub fn for_each_piece<E>(
    reader: &mut impl Read,
    failed: impl Fn(io::Error) -> E,
    mut each: impl FnMut(&[u8]) -> Result<(), E>,
) -> Result<(), E> {
    let mut piece = vec![0; PIECE];
    loop {
        match reader.read(&mut piece) {
            Ok(0) => return Ok(()),
            Ok(count) => each(&piece[..count])?,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(failed(error)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_comes_once_and_in_order() {
        let bytes: Vec<u8> = (0..PIECE + 17).map(|at| (at % 251) as u8).collect();
        let mut copy = Vec::new();
        let take = |piece: &[u8]| {
            copy.extend_from_slice(piece);
            Ok::<(), io::Error>(())
        };
        for_each_piece(&mut &bytes[..], |error| error, take).unwrap();
        assert!(copy == bytes);
        let refused = for_each_piece(&mut &bytes[..], |_| "unread", |_| Err("refused"));
        assert_eq!(refused, Err("refused"));
    }
}
