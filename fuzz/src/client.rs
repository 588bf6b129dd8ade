//! A client that waits for nothing longer than it is told to.

use std::collections::VecDeque;
use std::io::{self, Read, Write};
use std::net::{Shutdown, TcpStream};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::{Decoder, Event, Message, Request, Response, encode};
use serde_json::{Value as Json, json};

/// A client of the protocol.
pub struct Client {
    messages: mpsc::Receiver<Message>,
    writer: Box<dyn Write + Send>,
    events: VecDeque<Event>,
    answers: Vec<Response>,
    last_seq: i64,
    socket: Option<TcpStream>,
}

impl Drop for Client {
    fn drop(&mut self) {
        if let Some(socket) = &self.socket {
            // It may be gone already.
            let _ = socket.shutdown(Shutdown::Both);
        }
    }
}

impl Client {
    /// Speaks through a socket, which is closed when this is dropped.
    ///
    /// # Errors
    /// When the system has no more handles.
    pub fn over_socket(socket: TcpStream) -> io::Result<Self> {
        let (reader, writer) = (socket.try_clone()?, socket.try_clone()?);
        let mut client = Self::over(reader, writer);
        client.socket = Some(socket);
        Ok(client)
    }

    /// Speaks through a connection.
    pub fn over(mut reader: impl Read + Send + 'static, writer: impl Write + Send + 'static) -> Self {
        let (sender, messages) = mpsc::channel();
        thread::spawn(move || {
            let (mut decoder, mut chunk) = (Decoder::default(), [0; 8192]);
            loop {
                while let Ok(Some((message, _))) = decoder.next_message() {
                    if sender.send(message).is_err() {
                        return;
                    }
                }
                match reader.read(&mut chunk) {
                    Ok(count) if count > 0 => decoder.push(&chunk[..count]),
                    _ => return,
                }
            }
        });
        let (events, answers) = (VecDeque::new(), Vec::new());
        Self { messages, writer: Box::new(writer), events, answers, last_seq: 0, socket: None }
    }

    /// Sends a request; answers its number. A host that has hung up is noticed by who waits for the answer.
    pub fn send(&mut self, command: &str, arguments: Json) -> i64 {
        self.last_seq += 1;
        let request = Request { seq: self.last_seq, command: command.to_owned(), arguments: Some(arguments) };
        if let Ok(bytes) = encode(&Message::Request(request)) {
            let _ = self.writer.write_all(&bytes);
        }
        self.last_seq
    }

    /// Takes in what comes until `done` answers something; `None` when that takes too long, or nothing more comes.
    fn wait<T>(&mut self, limit: Duration, mut done: impl FnMut(&mut Self) -> Option<T>) -> Option<T> {
        let until = Instant::now() + limit;
        loop {
            if let Some(found) = done(self) {
                return Some(found);
            }
            match self.messages.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(Message::Response(response)) => self.answers.push(response),
                Ok(Message::Event(event)) => self.events.push_back(event),
                Ok(Message::Request(_)) => {}
                Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => return None,
            }
        }
    }

    /// The answer to a request.
    pub fn answer(&mut self, seq: i64, limit: Duration) -> Option<Response> {
        self.wait(limit, |client| {
            let at = client.answers.iter().position(|answer| answer.request_seq == seq)?;
            Some(client.answers.remove(at))
        })
    }

    /// Sends a request and waits for its answer.
    pub fn request(&mut self, command: &str, arguments: Json, limit: Duration) -> Option<Response> {
        let seq = self.send(command, arguments);
        self.answer(seq, limit)
    }

    /// The body of an event, the earliest that is not taken yet.
    pub fn event(&mut self, name: &str, limit: Duration) -> Option<Json> {
        self.wait(limit, |client| {
            let at = client.events.iter().position(|event| event.event == name)?;
            Some(client.events.remove(at)?.body.unwrap_or_default())
        })
    }

    /// Greets and attaches, with the host's token.
    pub fn attach(&mut self, token: &str, limit: Duration) -> Option<Response> {
        self.request("initialize", json!({"token": token}), limit)?;
        let attached = self.request("attach", json!({"token": token, "takeOver": true}), limit)?;
        self.request("configurationDone", json!({}), limit)?;
        Some(attached)
    }

    /// The same, to look and nothing else.
    pub fn observe(&mut self, token: &str, limit: Duration) -> Option<Response> {
        self.request("initialize", json!({"token": token}), limit)?;
        self.request("attach", json!({"token": token, "role": "observe"}), limit)
    }

    /// Forgets events and answers that nobody has taken.
    pub fn forget(&mut self) {
        self.events.clear();
        self.answers.clear();
    }
}
