//! What sessions read from and write to: a socket, or a pipe within the process.

use std::collections::VecDeque;
use std::io::{self, Read, Write};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;

use crate::discovery::Connection;
use crate::state::lock;

/// Bytes that wait in one direction of a pipe; a writer waits for the reader beyond that.
const MOST_IN_PIPE: usize = 1024 * 1024;

/// A connection, taken apart: what reads, what writes, and what can end both from any thread.
pub(crate) struct Line {
    pub(crate) reader: Box<dyn Read + Send>,
    pub(crate) writer: Box<dyn Write + Send>,
    pub(crate) control: Arc<dyn Control>,
}

/// A connection as those see it who neither read nor write.
pub(crate) trait Control: Send + Sync {
    /// Ends it in both directions: who reads or writes is woken.
    fn hang_up(&self);

    /// How long a read may take from the next one on; as long as it likes for `None`.
    ///
    /// # Errors
    /// Those of the system.
    fn read_within(&self, limit: Option<Duration>) -> io::Result<()>;
}

impl Control for Connection {
    fn hang_up(&self) {
        self.close();
    }

    fn read_within(&self, limit: Option<Duration>) -> io::Result<()> {
        self.set_read_timeout(limit)
    }
}

impl Line {
    /// Of a socket.
    ///
    /// # Errors
    /// When the system has no more handles.
    pub(crate) fn of_socket(connection: Connection) -> io::Result<Self> {
        let (reader, writer) = (connection.try_clone()?, connection.try_clone()?);
        Ok(Self { reader: Box::new(reader), writer: Box::new(writer), control: Arc::new(connection) })
    }

    /// Of one end of a pipe.
    pub(crate) fn of_pipe((reader, writer): (PipeReader, PipeWriter)) -> Self {
        let control = Arc::new([reader.0.clone(), writer.0.clone()]);
        Self { reader: Box::new(reader), writer: Box::new(writer), control }
    }
}

/// One direction of a pipe.
#[derive(Debug, Default)]
struct Direction {
    flow: Mutex<Flow>,
    changed: Condvar,
}

#[derive(Debug, Default)]
struct Flow {
    bytes: VecDeque<u8>,
    is_closed: bool,
}

impl Direction {
    fn close(&self) {
        lock(&self.flow).is_closed = true;
        self.changed.notify_all();
    }
}

impl Control for [Arc<Direction>; 2] {
    fn hang_up(&self) {
        self.iter().for_each(|direction| direction.close());
    }

    /// Who is within the process may take their time.
    fn read_within(&self, _: Option<Duration>) -> io::Result<()> {
        Ok(())
    }
}

/// Makes pairs of pipes within the process.
#[derive(Debug)]
pub struct Pipe;

impl Pipe {
    /// Two ends of a connection, each for reading what the other writes. A writer that is 1 MiB ahead waits for its reader.
    #[must_use]
    pub fn pair() -> ((PipeReader, PipeWriter), (PipeReader, PipeWriter)) {
        let (there, back) = (Arc::<Direction>::default(), Arc::<Direction>::default());
        ((PipeReader(back.clone()), PipeWriter(there.clone())), (PipeReader(there), PipeWriter(back)))
    }
}

/// Reads what the other end wrote; at its end when the other end is dropped.
#[derive(Debug)]
pub struct PipeReader(Arc<Direction>);

impl Read for PipeReader {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let mut flow = lock(&self.0.flow);
        while flow.bytes.is_empty() && !flow.is_closed {
            flow = self.0.changed.wait(flow).unwrap_or_else(PoisonError::into_inner);
        }
        let count = flow.bytes.read(into)?;
        self.0.changed.notify_all();
        Ok(count)
    }
}

impl Drop for PipeReader {
    fn drop(&mut self) {
        self.0.close();
    }
}

/// Writes to the other end; fails when it is dropped.
#[derive(Debug)]
pub struct PipeWriter(Arc<Direction>);

impl Write for PipeWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut flow = lock(&self.0.flow);
        while flow.bytes.len() >= MOST_IN_PIPE && !flow.is_closed {
            flow = self.0.changed.wait(flow).unwrap_or_else(PoisonError::into_inner);
        }
        if flow.is_closed {
            return Err(io::Error::new(io::ErrorKind::BrokenPipe, "the other end is gone"));
        }
        let count = bytes.len().min(MOST_IN_PIPE - flow.bytes.len());
        flow.bytes.extend(&bytes[..count]);
        self.0.changed.notify_all();
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for PipeWriter {
    fn drop(&mut self) {
        self.0.close();
    }
}

#[cfg(test)]
mod tests {
    use std::thread;

    use super::*;

    #[test]
    fn a_writer_waits_for_its_reader_and_loses_nothing() {
        let ((_, mut writer), (mut reader, _)) = Pipe::pair();
        let text: Vec<u8> = (0..3 * MOST_IN_PIPE).map(|n| (n % 251) as u8).collect();
        let sent = text.clone();
        let writing = thread::spawn(move || writer.write_all(&sent));
        let mut read = Vec::new();
        reader.read_to_end(&mut read).unwrap();
        writing.join().unwrap().unwrap();
        assert!(read == text);
    }

    #[test]
    fn hanging_up_wakes_both_ends() {
        let (mine, theirs) = Pipe::pair();
        let line = Line::of_pipe(mine);
        let (mut reader, mut writer) = (line.reader, line.writer);
        let reading = thread::spawn(move || reader.read(&mut [0; 8]));
        let writing = thread::spawn(move || writer.write_all(&vec![0; 2 * MOST_IN_PIPE]));
        line.control.hang_up();
        assert_eq!(reading.join().unwrap().unwrap(), 0);
        assert!(writing.join().unwrap().is_err());
        drop(theirs);
    }
}
