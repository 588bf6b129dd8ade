//! Whether and where a host listens.

use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::thread::{self, JoinHandle};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use thiserror::Error;

use crate::discovery::{self, Announcement, Connection, Note};
use crate::lane::HostState;
use crate::session;
use crate::state::clients::Way;
use crate::transport::Line;

/// How long scripts are held for someone to attach, unless another time is given.
const WAIT_FOR: Duration = Duration::from_secs(60);
/// Between two tries to reach the address that is dialled, and how many there are.
const DIAL_AGAIN_AFTER: Duration = Duration::from_millis(500);
const MOST_DIALS: u32 = 120;

/// What a host opens. Whatever it is, but [`Off`](Self::Off), the host announces itself to its own user and opens a local
/// socket that only they can connect to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Listen {
    /// Nothing.
    #[default]
    Off,
    /// Nothing but the local socket. An error where there are no such sockets.
    Dormant,
    /// A TCP port on the loopback interface too; port 0 for any free one. The host's token is asked of who connects.
    On(SocketAddr),
    /// A TCP port that others can reach, with the token that is asked of them.
    Exposed(SocketAddr, Token),
    /// Any free port, and scripts are held when they would begin to run, for this long at most, until someone is attached.
    Wait(Duration),
    /// The same, and the first line of a script stops.
    First(Duration),
    /// Connects out to an address where someone waits (`adzeman attach --await`), instead of opening one.
    Dial(SocketAddr),
}

/// What a host asks of clients that come over TCP. Never shown.
#[derive(Clone, PartialEq, Eq)]
pub struct Token(pub(crate) String);

impl Token {
    /// A token that was agreed upon, of at least 16 characters.
    ///
    /// # Errors
    /// [`ListenError::WeakToken`] for a shorter one.
    pub fn new(token: &str) -> Result<Self, ListenError> {
        if token.len() < LEAST_TOKEN { Err(ListenError::WeakToken) } else { Ok(Self(token.to_owned())) }
    }
}

/// Characters of a token that others could try to guess.
const LEAST_TOKEN: usize = 16;

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Token(…)")
    }
}

/// Why a host does not listen.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ListenError {
    /// A value of `ADZEMAN` that says nothing.
    #[error(
        "ADZEMAN is '{0}', which means nothing; use 'off', 'dormant', 'listen' or 'listen:ADDRESS' such as \
         'listen:127.0.0.1:7642', 'wait' or 'wait:SECONDS', 'first', or 'dial:ADDRESS'"
    )]
    UnknownChoice(String),
    /// An address that is none.
    #[error("'{0}' is not an address; use a port such as '7642', or '127.0.0.1:7642'")]
    BadAddress(String),
    /// An address that others could reach, without a token.
    #[error(
        "{0} can be reached from other machines: whoever reaches it could run code in this process. Only addresses of this \
         machine (127.0.0.1, ::1) are opened without a token; with one of at least 16 characters in ADZEMAN_TOKEN this \
         address is too. Better: listen on 127.0.0.1, and reach it through 'ssh -L PORT:127.0.0.1:PORT'"
    )]
    NotLoopback(SocketAddr),
    /// A token that could be guessed.
    #[error("the token is too short: use at least 16 characters that nobody can guess")]
    WeakToken,
    /// An address that cannot be had.
    #[error("cannot listen on {address}: {why}; choose another port, or 0 for any free one")]
    Unavailable {
        /// The address.
        address: SocketAddr,
        /// What the system said.
        why: io::Error,
    },
    /// No place to announce the host in.
    #[error("the host cannot be announced: {0}; set XDG_RUNTIME_DIR to a folder of your own, or listen on a port")]
    NotAnnounced(io::Error),
}

impl Listen {
    /// Any free port of the loopback interface.
    pub const ANY_PORT: Self = Self::On(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), 0));

    /// What the environment variable `ADZEMAN` asks for: `off` or nothing, `dormant`, `listen`, `listen:ADDRESS`, `wait`,
    /// `wait:SECONDS`, `first`, `first:SECONDS`, or `dial:ADDRESS`. An address that others can reach needs `ADZEMAN_TOKEN`.
    ///
    /// # Errors
    /// Says what is wrong with it.
    pub fn from_env() -> Result<Self, ListenError> {
        let listen = Self::from_choice(std::env::var("ADZEMAN").as_deref().unwrap_or_default())?;
        match (listen, std::env::var("ADZEMAN_TOKEN")) {
            (Self::On(address), Ok(token)) if !address.ip().is_loopback() => {
                Token::new(&token).map(|token| Self::Exposed(address, token))
            }
            (listen, _) => Ok(listen),
        }
    }

    /// The same from a text.
    ///
    /// # Errors
    /// As [`from_env`](Self::from_env).
    ///
    /// ```
    /// use adzeman::Listen;
    /// use std::time::Duration;
    /// assert_eq!(Listen::from_choice("").unwrap(), Listen::Off);
    /// assert_eq!(Listen::from_choice("dormant").unwrap(), Listen::Dormant);
    /// assert_eq!(Listen::from_choice("listen").unwrap(), Listen::ANY_PORT);
    /// assert_eq!(Listen::from_choice("first:5").unwrap(), Listen::First(Duration::from_secs(5)));
    /// assert!(Listen::from_choice("listen:7642").is_ok());
    /// assert!(Listen::from_choice("yes").is_err());
    /// ```
    pub fn from_choice(choice: &str) -> Result<Self, ListenError> {
        let (word, rest) = choice.split_once(':').map_or((choice, None), |(word, rest)| (word, Some(rest)));
        let unknown = || ListenError::UnknownChoice(choice.to_owned());
        let limit = |rest: Option<&str>| match rest {
            None => Ok(WAIT_FOR),
            Some(seconds) => seconds
                .parse::<f64>()
                .ok()
                .and_then(|seconds| Duration::try_from_secs_f64(seconds).ok())
                .ok_or_else(unknown),
        };
        match (word, rest) {
            ("" | "off", None) => Ok(Self::Off),
            ("dormant", None) => Ok(Self::Dormant),
            ("listen", None) => Ok(Self::ANY_PORT),
            ("listen", Some(address)) => Self::at(address),
            ("wait", rest) => limit(rest).map(Self::Wait),
            ("first", rest) => limit(rest).map(Self::First),
            ("dial", Some(address)) => parse_address(address).map(Self::Dial),
            _ => Err(unknown()),
        }
    }

    /// An address, or a port of the loopback interface.
    ///
    /// # Errors
    /// [`ListenError::BadAddress`].
    pub fn at(address: &str) -> Result<Self, ListenError> {
        parse_address(address).map(Self::On)
    }

    /// Where to listen for TCP connections, if anywhere, and the token that was agreed upon.
    fn tcp(&self) -> Result<Option<(SocketAddr, Option<&Token>)>, ListenError> {
        match self {
            Self::Off | Self::Dormant | Self::Dial(_) => Ok(None),
            Self::On(address) if !address.ip().is_loopback() => Err(ListenError::NotLoopback(*address)),
            Self::On(address) => Ok(Some((*address, None))),
            Self::Exposed(address, token) => Ok(Some((*address, Some(token)))),
            Self::Wait(_) | Self::First(_) => Ok(Some((SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), 0), None))),
        }
    }
}

fn parse_address(address: &str) -> Result<SocketAddr, ListenError> {
    if let Ok(port) = address.parse() {
        return Ok(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), port));
    }
    let text = address.replacen("localhost", "127.0.0.1", 1);
    text.parse().map_err(|_| ListenError::BadAddress(address.to_owned()))
}

/// What takes connections: for each way in, a thread, and how it is woken to end.
pub(crate) struct Server {
    host: Arc<HostState>,
    address: Option<SocketAddr>,
    threads: Vec<(JoinHandle<()>, Opened)>,
    _note: Option<Note>,
}

enum Opened {
    Tcp(SocketAddr),
    #[cfg(unix)]
    Local(PathBuf),
}

impl Server {
    /// Opens what is asked for; nothing for [`Listen::Off`].
    pub(crate) fn start(host: &Arc<HostState>, listen: &Listen) -> Result<Option<Self>, ListenError> {
        if *listen == Listen::Off {
            return Ok(None);
        }
        let mut server = Self { host: host.clone(), address: None, threads: Vec::new(), _note: None };
        if let Some((address, token)) = listen.tcp()? {
            if let Some(token) = token {
                host.opening.set_token(token.0.clone());
                warn_of_exposure(address);
            }
            server.open_tcp(address)?;
        }
        match server.announce(&host.name) {
            Ok(()) => {}
            Err(why) if *listen == Listen::Dormant => return Err(ListenError::NotAnnounced(why)),
            Err(why) => tracing::warn!(%why, "the host is not announced; it can be reached by its address"),
        }
        if let Listen::Dial(address) = listen {
            dial(host, *address);
        }
        Ok(Some(server))
    }

    fn open_tcp(&mut self, address: SocketAddr) -> Result<(), ListenError> {
        let unavailable = |why| ListenError::Unavailable { address, why };
        let listener = TcpListener::bind(address).map_err(unavailable)?;
        let address = listener.local_addr().map_err(unavailable)?;
        self.address = Some(address);
        let accept = move |host: &Arc<HostState>| {
            accept(host, || {
                let (stream, _) = listener.accept()?;
                stream.set_nodelay(true)?;
                Ok(Connection::Tcp(stream))
            });
        };
        self.spawn(Opened::Tcp(address), accept).map_err(unavailable)
    }

    fn spawn(&mut self, way: Opened, accept: impl FnOnce(&Arc<HostState>) + Send + 'static) -> io::Result<()> {
        let host = self.host.clone();
        let thread = thread::Builder::new().name("adzeman-listen".to_owned()).spawn(move || accept(&host))?;
        self.threads.push((thread, way));
        Ok(())
    }

    /// Opens the local socket, and leaves a note of the host.
    fn announce(&mut self, name: &str) -> io::Result<()> {
        let path = Note::path(name)?;
        let socket = self.open_local(&path)?;
        let announcement = Announcement {
            name: name.to_owned(),
            process_id: std::process::id(),
            started: SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs(),
            address: self.address,
            socket,
            token: self.host.opening.token(),
        };
        self._note = Some(Note::leave(&path, &announcement)?);
        Ok(())
    }

    #[cfg(unix)]
    fn open_local(&mut self, path: &std::path::Path) -> io::Result<Option<PathBuf>> {
        let path = discovery::beside(path, "sock");
        let listener = discovery::listen_locally(&path)?;
        let accept = move |host: &Arc<HostState>| accept(host, || Ok(Connection::Local(listener.accept()?.0)));
        self.spawn(Opened::Local(path.clone()), accept)?;
        Ok(Some(path))
    }

    /// Without local sockets, the address is the only way in.
    #[cfg(not(unix))]
    fn open_local(&mut self, _: &std::path::Path) -> io::Result<Option<PathBuf>> {
        if self.address.is_some() { Ok(None) } else { Err(io::ErrorKind::Unsupported.into()) }
    }

    pub(crate) fn address(&self) -> Option<SocketAddr> {
        self.address
    }

    /// Ends the threads and joins them.
    pub(crate) fn stop(self) {
        self.host.closing.store(true, SeqCst);
        for (thread, way) in self.threads {
            // Wakes the thread, which sees that it is to end.
            let woken = match way {
                Opened::Tcp(address) => TcpStream::connect_timeout(&address, Duration::from_secs(1)).is_ok(),
                #[cfg(unix)]
                Opened::Local(path) => std::os::unix::net::UnixStream::connect(path).is_ok(),
            };
            if woken && thread.join().is_err() {
                tracing::error!("a listening thread had panicked");
            }
        }
    }
}

/// Says what is opened to whom, where whoever started the host sees it.
fn warn_of_exposure(address: SocketAddr) {
    eprintln!(
        "adzeman: {address} is open to other machines: whoever reaches it and has the token can look at, change and run \
         anything in this process, and what is sent can be read on the way. Better: listen on 127.0.0.1, and reach it \
         through 'ssh -L {port}:127.0.0.1:{port}'",
        port = address.port()
    );
}

fn accept(host: &Arc<HostState>, next: impl Fn() -> io::Result<Connection>) {
    loop {
        let connection = next();
        if host.closing.load(SeqCst) {
            return;
        }
        if let Err(error) = connection.and_then(|connection| open(host, connection)) {
            tracing::warn!(%error, "a connection could not be taken");
            // A lack of handles does not end by asking again at once.
            thread::sleep(Duration::from_millis(20));
        }
    }
}

fn open(host: &Arc<HostState>, connection: Connection) -> io::Result<()> {
    let way = if connection.is_local() { Way::Local } else { Way::Tcp };
    session::start(host, Line::of_socket(connection)?, way)
}

/// Connects out, again and again for a minute, to where someone waits. Who waits there was chosen by whoever started the
/// host, so nothing more is asked of them.
fn dial(host: &Arc<HostState>, address: SocketAddr) {
    let host = host.clone();
    let dialling = thread::Builder::new().name("adzeman-dial".to_owned()).spawn(move || {
        for _ in 0..MOST_DIALS {
            if host.closing.load(SeqCst) {
                return;
            }
            let connected = Connection::to(address).and_then(Line::of_socket);
            match connected.and_then(|line| session::start(&host, line, Way::Chosen)) {
                Ok(()) => return,
                Err(_) => thread::sleep(DIAL_AGAIN_AFTER),
            }
        }
        tracing::warn!(%address, "nobody waits at the address that was to be dialled");
    });
    if let Err(error) = dialling {
        tracing::warn!(%error, "the address is not dialled");
    }
}
