//! What sessions read from and write to: a socket, or a pipe within the process.

use std::io::{self, Read, Write};

use crossbeam_channel::{Receiver, Sender, unbounded};

/// Makes pairs of pipes within the process.
#[derive(Debug)]
pub struct Pipe;

impl Pipe {
    /// Two ends of a connection, each for reading what the other writes.
    #[must_use]
    pub fn pair() -> ((PipeReader, PipeWriter), (PipeReader, PipeWriter)) {
        let (a_to_b, from_a) = unbounded();
        let (b_to_a, from_b) = unbounded();
        let reader = |chunks| PipeReader { chunks, rest: Vec::new() };
        ((reader(from_b), PipeWriter { chunks: a_to_b }), (reader(from_a), PipeWriter { chunks: b_to_a }))
    }
}

/// Reads what the other end wrote; at its end when the other end is dropped.
#[derive(Debug)]
pub struct PipeReader {
    chunks: Receiver<Vec<u8>>,
    rest: Vec<u8>,
}

impl Read for PipeReader {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.rest.is_empty() {
            match self.chunks.recv() {
                Ok(chunk) => self.rest = chunk,
                Err(_) => return Ok(0),
            }
        }
        let count = self.rest.len().min(into.len());
        into[..count].copy_from_slice(&self.rest[..count]);
        self.rest.drain(..count);
        Ok(count)
    }
}

/// Writes to the other end; fails when it is dropped.
#[derive(Debug)]
pub struct PipeWriter {
    chunks: Sender<Vec<u8>>,
}

impl Write for PipeWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let gone = |_| io::Error::new(io::ErrorKind::BrokenPipe, "the other end is gone");
        self.chunks.send(bytes.to_vec()).map_err(gone)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
