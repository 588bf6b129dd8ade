//! Whether and where a host listens.

use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::thread::{self, JoinHandle};
use std::time::Duration;

use thiserror::Error;

use crate::session;
use crate::shared::Shared;

/// A client must have sent its first whole message after this time.
const FIRST_MESSAGE_WITHIN: Duration = Duration::from_secs(10);

/// What a host opens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Listen {
    /// Nothing.
    #[default]
    Off,
    /// A TCP port on the loopback interface; port 0 for any free one.
    On(SocketAddr),
}

/// Why a host does not listen.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ListenError {
    /// A value of `ADZEMAN` that says nothing.
    #[error(
        "ADZEMAN is '{0}', which means nothing; use 'off', 'listen' or 'listen:ADDRESS' such as 'listen:127.0.0.1:4711'"
    )]
    UnknownChoice(String),
    /// An address that is none.
    #[error("'{0}' is not an address to listen on; use a port such as '4711', or '127.0.0.1:4711'")]
    BadAddress(String),
    /// An address that others could reach.
    #[error(
        "{0} can be reached from other machines; only addresses of this machine itself (127.0.0.1, ::1) are opened"
    )]
    NotLoopback(SocketAddr),
    /// An address that cannot be had.
    #[error("cannot listen on {address}: {why}; choose another port, or 0 for any free one")]
    Unavailable {
        /// The address.
        address: SocketAddr,
        /// What the system said.
        why: io::Error,
    },
}

impl Listen {
    /// Any free port of the loopback interface.
    pub const ANY_PORT: Self = Self::On(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), 0));

    /// What the environment variable `ADZEMAN` asks for: `off` or nothing, `listen`, or `listen:ADDRESS`.
    ///
    /// # Errors
    /// [`ListenError::UnknownChoice`] or [`ListenError::BadAddress`].
    pub fn from_env() -> Result<Self, ListenError> {
        Self::from_choice(std::env::var("ADZEMAN").as_deref().unwrap_or_default())
    }

    /// The same from a text.
    ///
    /// # Errors
    /// As [`from_env`](Self::from_env).
    ///
    /// ```
    /// use adzeman::Listen;
    /// assert_eq!(Listen::from_choice("").unwrap(), Listen::Off);
    /// assert_eq!(Listen::from_choice("listen").unwrap(), Listen::ANY_PORT);
    /// assert!(Listen::from_choice("listen:4711").is_ok());
    /// assert!(Listen::from_choice("yes").is_err());
    /// ```
    pub fn from_choice(choice: &str) -> Result<Self, ListenError> {
        match choice.split_once(':') {
            None if choice.is_empty() || choice == "off" => Ok(Self::Off),
            None if choice == "listen" => Ok(Self::ANY_PORT),
            Some(("listen", address)) => Self::at(address),
            _ => Err(ListenError::UnknownChoice(choice.to_owned())),
        }
    }

    /// An address, or a port of the loopback interface.
    ///
    /// # Errors
    /// [`ListenError::BadAddress`].
    pub fn at(address: &str) -> Result<Self, ListenError> {
        if let Ok(port) = address.parse() {
            return Ok(Self::On(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), port)));
        }
        let text = address.replacen("localhost", "127.0.0.1", 1);
        text.parse().map(Self::On).map_err(|_| ListenError::BadAddress(address.to_owned()))
    }
}

/// The thread that takes connections.
pub(crate) struct Server {
    shared: Arc<Shared>,
    address: SocketAddr,
    thread: JoinHandle<()>,
}

impl Server {
    pub(crate) fn start(shared: Arc<Shared>, address: SocketAddr) -> Result<Self, ListenError> {
        if !address.ip().is_loopback() {
            return Err(ListenError::NotLoopback(address));
        }
        let unavailable = |why| ListenError::Unavailable { address, why };
        let listener = TcpListener::bind(address).map_err(unavailable)?;
        let address = listener.local_addr().map_err(unavailable)?;
        let thread = thread::Builder::new().name("adzeman-listen".to_owned()).spawn({
            let shared = shared.clone();
            move || accept(&listener, &shared)
        });
        Ok(Self { shared, address, thread: thread.map_err(unavailable)? })
    }

    pub(crate) fn address(&self) -> SocketAddr {
        self.address
    }

    /// Ends the thread and joins it.
    pub(crate) fn stop(self) {
        self.shared.closing.store(true, SeqCst);
        // Wakes the thread, which sees that it is to end.
        let woken = TcpStream::connect_timeout(&self.address, Duration::from_secs(1));
        if woken.is_ok() && self.thread.join().is_err() {
            tracing::error!("the listening thread had panicked");
        }
    }
}

fn accept(listener: &TcpListener, shared: &Arc<Shared>) {
    for stream in listener.incoming() {
        if shared.closing.load(SeqCst) {
            return;
        }
        let outcome = stream.and_then(|stream| open(shared, stream));
        if let Err(error) = outcome {
            tracing::warn!(%error, "a connection could not be taken");
            // A lack of handles does not end by asking again at once.
            thread::sleep(Duration::from_millis(20));
        }
    }
}

fn open(shared: &Arc<Shared>, stream: TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(FIRST_MESSAGE_WITHIN))?;
    let (reader, settled) = (stream.try_clone()?, stream.try_clone()?);
    session::start(shared.clone(), reader, stream, move || {
        if let Err(error) = settled.set_read_timeout(None) {
            tracing::warn!(%error, "a quiet client will be dropped");
        }
    })
}
