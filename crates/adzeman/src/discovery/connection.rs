//! Connections to hosts.

use std::io::{self, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream};
use std::time::Duration;

/// How long a host may take to take a connection.
const CONNECT_WITHIN: Duration = Duration::from_secs(5);

/// A connection to a host.
#[derive(Debug)]
pub enum Connection {
    /// By its address.
    Tcp(TcpStream),
    /// By its local socket.
    #[cfg(unix)]
    Local(std::os::unix::net::UnixStream),
}

impl Connection {
    /// Connects to an address.
    ///
    /// # Errors
    /// When nothing takes the connection in time.
    pub fn to(address: SocketAddr) -> io::Result<Self> {
        let stream = TcpStream::connect_timeout(&address, CONNECT_WITHIN)?;
        stream.set_nodelay(true)?;
        Ok(Self::Tcp(stream))
    }

    /// Connects to a local socket. A host that stands still takes no connections, and is not waited for longer than another.
    ///
    /// # Errors
    /// When nothing takes the connection in time.
    #[cfg(unix)]
    pub(super) fn to_socket(path: &std::path::Path) -> io::Result<Self> {
        use rustix::net::{AddressFamily, SocketAddrUnix, SocketType, connect, socket};
        /// Between two tries, while the host has no room for one more connection.
        const AGAIN_AFTER: Duration = Duration::from_millis(20);
        let until = std::time::Instant::now() + CONNECT_WITHIN;
        let connecting = socket(AddressFamily::UNIX, SocketType::STREAM, None)?;
        rustix::io::fcntl_setfd(&connecting, rustix::io::FdFlags::CLOEXEC)?;
        rustix::io::ioctl_fionbio(&connecting, true)?;
        let address = SocketAddrUnix::new(path)?;
        loop {
            match connect(&connecting, &address) {
                Ok(()) => break,
                Err(rustix::io::Errno::AGAIN) if std::time::Instant::now() < until => std::thread::sleep(AGAIN_AFTER),
                Err(rustix::io::Errno::AGAIN) => return Err(io::ErrorKind::TimedOut.into()),
                Err(error) => return Err(error.into()),
            }
        }
        rustix::io::ioctl_fionbio(&connecting, false)?;
        Ok(Self::Local(connecting.into()))
    }

    /// The same connection, once more.
    ///
    /// # Errors
    /// When the system has no more handles.
    pub fn try_clone(&self) -> io::Result<Self> {
        Ok(match self {
            Self::Tcp(stream) => Self::Tcp(stream.try_clone()?),
            #[cfg(unix)]
            Self::Local(stream) => Self::Local(stream.try_clone()?),
        })
    }

    /// How long a read may take; as long as it likes for `None`.
    ///
    /// # Errors
    /// Those of the system.
    pub fn set_read_timeout(&self, within: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.set_read_timeout(within),
            #[cfg(unix)]
            Self::Local(stream) => stream.set_read_timeout(within),
        }
    }

    /// How long a write may take; as long as it likes for `None`.
    ///
    /// # Errors
    /// Those of the system.
    pub fn set_write_timeout(&self, within: Option<Duration>) -> io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.set_write_timeout(within),
            #[cfg(unix)]
            Self::Local(stream) => stream.set_write_timeout(within),
        }
    }

    /// Ends it in both directions.
    pub fn close(&self) {
        // It may have ended already.
        let _ = match self {
            Self::Tcp(stream) => stream.shutdown(Shutdown::Both),
            #[cfg(unix)]
            Self::Local(stream) => stream.shutdown(Shutdown::Both),
        };
    }

    /// Whether the other end is known to be of the same user.
    #[must_use]
    pub fn is_local(&self) -> bool {
        !matches!(self, Self::Tcp(_))
    }
}

impl Read for Connection {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.read(into),
            #[cfg(unix)]
            Self::Local(stream) => stream.read(into),
        }
    }
}

impl Write for Connection {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.write(bytes),
            #[cfg(unix)]
            Self::Local(stream) => stream.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.flush(),
            #[cfg(unix)]
            Self::Local(stream) => stream.flush(),
        }
    }
}
