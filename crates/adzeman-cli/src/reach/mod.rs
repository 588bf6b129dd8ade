//! Finding the host that is meant, and connecting to it.

pub(crate) mod adapter;
pub(crate) mod beside;
pub(crate) mod launch;
pub(crate) mod module;
pub(crate) mod saves;

use std::io::{self, Read as _, Write as _};
use std::net::{SocketAddr, TcpListener};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::discovery::{self, Connection, Found};
use adzeman_dap::extra::{self, StatusBody};
use adzeman_dap::{Decoder, Message, Request, encode};
use serde_json::{Value as Json, json};

use crate::error::{CliError, plain};
use crate::report::HostRow;

/// How long a host may take to say what it is doing.
const STATUS_WITHIN: Duration = Duration::from_millis(1500);
/// Between two looks whether a host is there.
pub(crate) const LOOK_AGAIN_AFTER: Duration = Duration::from_millis(100);

/// A host that was reached.
pub(crate) struct Reached {
    pub(crate) connection: Connection,
    /// What it asks for, when it comes over TCP.
    pub(crate) token: Option<String>,
    /// What to look for when it is gone: its name, or else its address.
    pub(crate) target: String,
    /// How it was found, for people.
    pub(crate) how: String,
}

/// Connects to the host that `target` means: its name, its process, its address, or without any, the only one there is.
pub(crate) fn reach(target: Option<&str>) -> Result<Reached, CliError> {
    // Where nothing can be announced, addresses still work.
    let found = discovery::announced().unwrap_or_default();
    let address = target.and_then(address_of);
    let is_meant = |found: &&Found| match target {
        None => true,
        Some(target) => {
            let announcement = &found.announcement;
            announcement.name == target
                || announcement.process_id.to_string() == target
                || address.is_some() && announcement.address == address
        }
    };
    let meant: Vec<&Found> = found.iter().filter(is_meant).collect();
    let mut live: Vec<(&Found, Connection)> =
        meant.iter().filter_map(|found| Some((*found, found.connect().ok()?))).collect();
    match (live.len(), target, address) {
        (1, ..) => live.pop().map(|(found, connection)| reached(found, connection)).ok_or(CliError::NoHosts),
        (0, None, _) => Err(CliError::NoHosts),
        (0, Some(_), Some(address)) => by_address(address),
        (0, Some(target), None) => {
            let names: Vec<_> = found.iter().map(|found| found.announcement.name.clone()).collect();
            Err(CliError::NoSuchHost { target: target.to_owned(), known: known(names) })
        }
        _ => {
            let several = live
                .iter()
                .map(|(found, _)| format!("{} (process {})", found.announcement.name, found.announcement.process_id));
            Err(CliError::SeveralHosts(several.collect::<Vec<_>>().join(", ")))
        }
    }
}

fn known(mut names: Vec<String>) -> String {
    names.dedup();
    if names.is_empty() { "no host is announced".to_owned() } else { format!("there is {}", names.join(", ")) }
}

fn reached(found: &Found, connection: Connection) -> Reached {
    let announcement = &found.announcement;
    let token = (!connection.is_local()).then(|| announcement.token.clone());
    let way = announcement.address.filter(|_| !connection.is_local());
    let way = way.map_or("its local socket".to_owned(), |address| address.to_string());
    let how = format!("{} (process {}), by {way}", announcement.name, announcement.process_id);
    Reached { connection, token, target: announcement.name.clone(), how }
}

/// A host that did not announce itself to this user: its token is what the environment says.
fn by_address(address: SocketAddr) -> Result<Reached, CliError> {
    let connection =
        Connection::to(address).map_err(|why| CliError::NoHost { address: address.to_string(), why: plain(&why) })?;
    let token = std::env::var("ADZEMAN_TOKEN").ok();
    Ok(Reached { connection, token, target: address.to_string(), how: address.to_string() })
}

/// An address, or a port of this machine; nothing for a name.
fn address_of(target: &str) -> Option<SocketAddr> {
    match target.parse::<u16>() {
        Ok(port) => Some(SocketAddr::from(([127, 0, 0, 1], port))),
        Err(_) => target.replacen("localhost", "127.0.0.1", 1).parse().ok(),
    }
}

/// The same, waiting until it is there; `tell` is told every second how long it has been.
pub(crate) fn wait_for(
    target: Option<&str>,
    limit: Option<Duration>,
    mut tell: impl FnMut(Duration) -> Result<(), CliError>,
) -> Result<Reached, CliError> {
    let begun = Instant::now();
    loop {
        match reach(target) {
            Err(error) if !error.is_absence() || limit.is_some_and(|limit| begun.elapsed() > limit) => {
                return Err(error);
            }
            Err(_) => {
                tell(begun.elapsed())?;
                thread::sleep(LOOK_AGAIN_AFTER);
            }
            Ok(reached) => return Ok(reached),
        }
    }
}

/// Waits at an address for a host that dials it.
pub(crate) fn wait_at(address: &str, mut told: impl FnMut(SocketAddr)) -> Result<Reached, CliError> {
    let wanted = address_of(address).ok_or_else(|| CliError::BadAddress(address.to_owned()))?;
    let cannot = |why: io::Error| CliError::NoHost { address: wanted.to_string(), why: plain(&why) };
    let listener = TcpListener::bind(wanted).map_err(cannot)?;
    told(listener.local_addr().map_err(cannot)?);
    let (stream, from) = listener.accept().map_err(cannot)?;
    stream.set_nodelay(true).map_err(cannot)?;
    let how = format!("a host that dialled from {from}");
    Ok(Reached { connection: Connection::Tcp(stream), token: None, target: address.to_owned(), how })
}

/// Every host of this user, and what it is doing. All are asked at once.
pub(crate) fn hosts() -> Result<Vec<HostRow>, CliError> {
    let found = discovery::announced().map_err(|why| CliError::NoFolder(why.to_string()))?;
    let rows = thread::scope(|scope| {
        let asking: Vec<_> = found.iter().map(|found| scope.spawn(|| host_row(found))).collect();
        // A thread that panicked has no row.
        asking.into_iter().filter_map(|asking| asking.join().ok().flatten()).collect()
    });
    Ok(rows)
}

/// What a host is doing; nothing for one that is gone.
fn host_row(found: &Found) -> Option<HostRow> {
    let announcement = &found.announcement;
    let connection = found.connect().ok()?;
    let status = status_of(connection, &announcement.token);
    let (name, process_id) = (announcement.name.clone(), announcement.process_id);
    let address = announcement.address.map_or("local socket".to_owned(), |address| address.to_string());
    Some(match status {
        Ok(StatusBody { up_seconds, contexts, clients, .. }) => HostRow {
            name,
            process_id,
            address,
            up_seconds: Some(up_seconds),
            contexts: contexts.into_iter().map(|context| (context.name, context.state)).collect(),
            clients: clients.into_iter().map(|client| (client.name, client.role)).collect(),
        },
        Err(_) => HostRow { name, process_id, address, up_seconds: None, contexts: Vec::new(), clients: Vec::new() },
    })
}

fn status_of(mut connection: Connection, token: &str) -> io::Result<StatusBody> {
    let until = Instant::now() + STATUS_WITHIN;
    connection.set_write_timeout(Some(STATUS_WITHIN))?;
    let hello = json!({"clientName": "adzeman hosts", "token": token});
    for (seq, command, arguments) in [(1, "initialize", hello), (2, extra::STATUS, json!({}))] {
        let request = Request { seq, command: command.to_owned(), arguments: Some(arguments) };
        connection.write_all(&encode(&Message::Request(request)).map_err(io::Error::other)?)?;
    }
    let (mut decoder, mut chunk) = (Decoder::default(), [0; 8192]);
    loop {
        while let Some((message, _)) = decoder.next_message().map_err(io::Error::other)? {
            if let Message::Response(response) = message
                && response.request_seq == 2
            {
                let body: Json = response.body.unwrap_or_default();
                return serde_json::from_value(body).map_err(io::Error::other);
            }
        }
        // All in all: one that says a little now and then is none that answers.
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(io::ErrorKind::TimedOut.into());
        }
        connection.set_read_timeout(Some(left))?;
        match connection.read(&mut chunk)? {
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            count => decoder.push(&chunk[..count]),
        }
    }
}
