//! A gzip stream (RFC 1952) whose blocks are packed beside each other.
//!
//! Each block is deflated by itself and ended so that the next begins on a whole byte;
//! one behind the other they are one stream, which every reader reads.

use std::io::{self, Write};

use flate2::{Compress, Compression, Crc, FlushCompress, Status};

use crate::pool::Queue;

/// Bytes that are packed by themselves.
const BLOCK: usize = 512 * 1024;
/// No name, no time, and no system that it was made on.
const HEADER: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff];
/// A last block with nothing in it.
const LAST: [u8; 2] = [3, 0];

struct Block {
    packed: Vec<u8>,
    sum: Crc,
}

/// A gzip stream that is ended when it is flushed.
pub(super) struct Packed<W> {
    out: W,
    block: Vec<u8>,
    packing: Queue<io::Result<Block>>,
    sum: Crc,
    begun: bool,
    ended: bool,
}

impl<W: Write> Packed<W> {
    pub fn new(out: W) -> Self {
        Packed {
            out,
            block: Vec::new(),
            packing: Queue::new(),
            sum: Crc::new(),
            begun: false,
            ended: false,
        }
    }

    fn pack(&mut self) -> io::Result<()> {
        let block = std::mem::replace(&mut self.block, Vec::with_capacity(BLOCK));
        match self.packing.push(move || deflated(&block)) {
            Some(packed) => self.put(&packed?),
            None => Ok(()),
        }
    }

    fn put(&mut self, block: &Block) -> io::Result<()> {
        if !std::mem::replace(&mut self.begun, true) {
            self.out.write_all(&HEADER)?;
        }
        self.sum.combine(&block.sum);
        self.out.write_all(&block.packed)
    }
}

fn deflated(block: &[u8]) -> io::Result<Block> {
    let mut deflate = Compress::new(Compression::default(), false);
    let mut packed = Vec::with_capacity(block.len() / 2 + 64);
    loop {
        let read = usize::try_from(deflate.total_in()).map_err(io::Error::other)?;
        let status = deflate.compress_vec(&block[read..], &mut packed, FlushCompress::Sync);
        let status = status.map_err(io::Error::other)?;
        let all = deflate.total_in() == block.len() as u64;
        // What is left inside comes out while there is room for it.
        if all && packed.len() < packed.capacity() || status == Status::StreamEnd {
            break;
        }
        packed.reserve(packed.capacity().max(1024));
    }
    let mut sum = Crc::new();
    sum.update(block);
    Ok(Block { packed, sum })
}

impl<W: Write> Write for Packed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.ended {
            return Err(io::Error::other("the compressed stream was ended"));
        }
        let taken = bytes.len().min(BLOCK - self.block.len());
        self.block.extend_from_slice(&bytes[..taken]);
        if self.block.len() == BLOCK {
            self.pack()?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        if !std::mem::replace(&mut self.ended, true) {
            self.pack()?;
            while let Some(packed) = self.packing.pop() {
                self.put(&packed?)?;
            }
            self.out.write_all(&LAST)?;
            self.out.write_all(&self.sum.sum().to_le_bytes())?;
            self.out.write_all(&self.sum.amount().to_le_bytes())?;
        }
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use std::io::Read;

    use flate2::bufread::GzDecoder;

    use super::*;

    #[test]
    fn what_is_packed_is_one_stream_that_a_reader_reads() {
        for size in [0, 1, BLOCK - 1, BLOCK, BLOCK * 7 + 13] {
            let text: Vec<u8> = (0..size).map(|at| (at * at / 7 % 251) as u8).collect();
            let mut out = Vec::new();
            let mut packed = Packed::new(&mut out);
            text.chunks(1000).for_each(|chunk| packed.write_all(chunk).expect("room"));
            packed.flush().expect("room");
            packed.flush().expect("ended once");
            assert!(packed.write_all(b"x").is_err());
            let mut read = Vec::new();
            let mut reader = GzDecoder::new(&out[..]);
            reader.read_to_end(&mut read).expect("a sound stream");
            assert!(read == text, "{size} bytes");
            assert!(reader.into_inner().is_empty(), "a single stream");
        }
    }
}
