//! One connection that several threads send on, and requests that are made beside those of a session.

use std::collections::HashMap;
use std::io::{self, Write as _};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use adzeman::discovery::Connection;
use adzeman_dap::{Event, Message, Request, Response, encode};
use serde_json::Value as Json;

/// Makes of an answer what is told of it, as if the host had.
type Answered = Box<dyn FnOnce(Response) -> Event + Send>;

/// The sending side of a connection. Copies stand for the same.
#[derive(Clone)]
pub(crate) struct Sending(Arc<Shared>);

struct Shared {
    wire: Mutex<Wire>,
    /// Requests beside the session's that are not answered yet.
    waiting: Mutex<HashMap<i64, Answered>>,
}

struct Wire {
    connection: Connection,
    last_seq: i64,
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Sending {
    /// Sends on this connection; requests have the numbers behind `last_seq`.
    pub(crate) fn over(connection: Connection, last_seq: i64) -> Self {
        let wire = Mutex::new(Wire { connection, last_seq });
        Self(Arc::new(Shared { wire, waiting: Mutex::default() }))
    }

    /// Sends a request with the next number; answers that.
    ///
    /// # Errors
    /// When the host is gone, or the request is too large for a message.
    pub(crate) fn send(&self, command: &str, arguments: Json) -> io::Result<i64> {
        let mut wire = held(&self.0.wire);
        wire.last_seq += 1;
        let request = Request { seq: wire.last_seq, command: command.to_owned(), arguments: Some(arguments) };
        wire.write(request)
    }

    /// Sends a request as it is.
    ///
    /// # Errors
    /// As [`send`](Self::send).
    pub(crate) fn pass(&self, request: Request) -> io::Result<i64> {
        held(&self.0.wire).write(request)
    }

    /// Asks the host for something beside the session; `answered` makes of the answer what is told of it.
    ///
    /// # Errors
    /// As [`send`](Self::send).
    pub(crate) fn ask(
        &self,
        command: &str,
        arguments: Json,
        answered: impl FnOnce(Response) -> Event + Send + 'static,
    ) -> io::Result<()> {
        // Nobody looks for the answer before it is known what is to become of it.
        let mut waiting = held(&self.0.waiting);
        let seq = self.send(command, arguments)?;
        waiting.insert(seq, Box::new(answered));
        Ok(())
    }

    /// What is told of an answer, if the request was made beside the session; the answer otherwise.
    pub(crate) fn answered(&self, response: Response) -> Result<Event, Response> {
        match held(&self.0.waiting).remove(&response.request_seq) {
            Some(answered) => Ok(answered(response)),
            None => Err(response),
        }
    }

    /// Ends the connection.
    pub(crate) fn close(&self) {
        held(&self.0.wire).connection.close();
    }
}

impl Wire {
    fn write(&mut self, request: Request) -> io::Result<i64> {
        let seq = request.seq;
        let bytes = encode(&Message::Request(request)).map_err(io::Error::other)?;
        self.connection.write_all(&bytes).map(|()| seq)
    }
}
