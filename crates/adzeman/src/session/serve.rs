//! The threads of a session, and its end: whatever ends one of them, the client gives back all that it had.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::requests::CancelArguments;
use adzeman_dap::{Command, Decoder, FrameError, Message, Request};

use super::answer::{arguments, encoded_answer, response};
use super::inbox::{Inbox, MOST_UNANSWERED};
use super::notices::{encoded, farewell};
use super::seat::Seat;
use super::{MOST_BREAKPOINTS, Session, SessionError};
use crate::lane::HostState;
use crate::state::clients::{Client, MOST_AT_THE_DOOR, Way};
use crate::state::notice::Notice;
use crate::transport::{Control, Line};

/// From the connection to an accepted `attach`, all in all.
const ATTACHED_WITHIN: Duration = Duration::from_secs(10);
/// Bytes read at once.
const READ_BYTES: usize = 16 * 1024;
/// Time for what a client that leaves has asked for before.
const GRACE: Duration = Duration::from_millis(500);
/// Time for the last messages to a client that has left.
const WRITTEN_WITHIN: Duration = Duration::from_secs(2);

/// Starts a session on a connection.
///
/// # Errors
/// When no thread can be started.
pub(crate) fn start(host: &Arc<HostState>, line: Line, way: Way) -> io::Result<()> {
    let Some(seat) = Seat::take(host, way) else {
        let why = format!(
            "{MOST_AT_THE_DOOR} clients that have not attached are connected {} already; try again",
            way.title()
        );
        turn_away(host, line, &why);
        return Ok(());
    };
    let (client, inbox) = (seat.client.clone(), seat.inbox.clone());
    let Line { reader, writer, control } = line;
    let number = client.owner.0;
    let spawn = |name: &str, work: Box<dyn FnOnce() + Send>| {
        thread::Builder::new().name(format!("adzeman-{name}-{number}")).spawn(work)
    };
    let session = Session::new(host.clone(), client.clone(), inbox.clone());
    // Whatever goes wrong from here on, the seat goes with the thread that carries out, or with this call.
    let writing = spawn("write", {
        let (host, client, control) = (host.clone(), client.clone(), control.clone());
        Box::new(move || {
            client.outbox.write_to(writer, |seq, notice| encoded(notice, seq, &host, client.line_base()));
            // Without one who writes, nobody needs to read.
            control.hang_up();
        })
    })?;
    let reading = spawn("read", {
        let (client, control) = (client.clone(), control.clone());
        Box::new(move || read(reader, &client, &inbox, &*control))
    });
    let reading = reading.inspect_err(|_| client.outbox.finish())?;
    let ends = move || {
        carry_out(session, seat);
        client.outbox.finish();
        client.outbox.wait_until_over(WRITTEN_WITHIN);
        control.hang_up();
        if writing.join().is_err() | reading.join().is_err() {
            tracing::error!("a thread of a session had panicked");
        }
    };
    spawn("session", Box::new(ends)).map(|_| ())
}

/// Tells a client why it cannot be served, and hangs up. Never waits for it.
fn turn_away(host: &HostState, line: Line, why: &str) {
    tracing::warn!(why, "a client was turned away");
    let Line { mut writer, control, .. } = line;
    // A few bytes have room in every connection that is new; one that takes none is not waited for.
    for (seq, notice) in (1..).zip(farewell(why)) {
        if writer.write_all(&encoded(&notice, seq, host, 1)).is_err() {
            break;
        }
    }
    control.hang_up();
}

/// Tells every client that the host ends.
pub(crate) fn close_all(host: &HostState) {
    host.closing.store(true, SeqCst);
    for client in host.clients.all() {
        client.tell(Notice::HostEnds);
        host.remove_client(&client, false);
        client.work.abandon();
        client.outbox.finish();
    }
}

/// Carries out what a client asks for, until it leaves. The seat is given back at the end, whatever that is.
fn carry_out(mut session: Session, mut seat: Seat) {
    let inbox = seat.inbox.clone();
    while !seat.has_left
        && let Some((request, cancel)) = inbox.next()
        && session.answer(&request, cancel)
    {
        seat.has_left = session.farewell.is_some();
    }
    session.give_all_back();
    let (client, farewell) = (seat.client.clone(), session.farewell.take());
    drop(seat);
    if let Some(answer) = farewell {
        client.outbox.answer(|seq| encoded_answer(&answer, seq), true);
    }
}

/// Reads requests until the client is gone, or has nothing more to say.
fn read(mut reader: Box<dyn Read + Send>, client: &Client, inbox: &Inbox, control: &dyn Control) {
    let ended = read_all(&mut *reader, client, inbox, control);
    if let Err(error) = &ended {
        tracing::warn!(%error, "a client was dropped");
        // A web page that tries this port learns nothing from it.
        if !matches!(error, Dropped::Frame(FrameError::OtherProtocol { .. })) {
            farewell(&error.to_string()).into_iter().for_each(|notice| client.tell(notice));
        }
    }
    inbox.close(GRACE);
}

/// Why a client is not listened to any more.
#[derive(Debug, thiserror::Error)]
enum Dropped {
    #[error("{0}; a client has at most {MOST_BREAKPOINTS} breakpoints, and sends large things in parts")]
    Frame(#[from] FrameError),
    #[error("no accepted 'attach' came within {} seconds", ATTACHED_WITHIN.as_secs())]
    TooLate,
    #[error("more requests came than can be answered, and no answer is read")]
    Flood,
}

fn read_all(reader: &mut dyn Read, client: &Client, inbox: &Inbox, control: &dyn Control) -> Result<(), Dropped> {
    let until = (client.way != Way::Chosen).then(|| Instant::now() + ATTACHED_WITHIN);
    let (mut decoder, mut chunk) = (Decoder::default(), vec![0; READ_BYTES]);
    let mut is_at_the_door = true;
    loop {
        while let Some((message, bytes)) = decoder.next_message()? {
            if let Message::Request(request) = message
                && !take(request, bytes, client, inbox)?
            {
                return Ok(());
            }
        }
        if let Some(until) = until.filter(|_| is_at_the_door) {
            is_at_the_door = !client.is_attached();
            let left = until.saturating_duration_since(Instant::now());
            if is_at_the_door && left.is_zero() {
                return Err(Dropped::TooLate);
            }
            if let Err(error) = control.read_within(is_at_the_door.then_some(left)) {
                tracing::info!(%error, "a client is gone");
                return Ok(());
            }
        }
        match reader.read(&mut chunk) {
            Ok(0) => return Ok(()),
            Ok(count) => decoder.push(&chunk[..count]),
            Err(error) if is_pause(&error) => {}
            Err(error) => {
                tracing::info!(%error, "a client is gone");
                return Ok(());
            }
        }
    }
}

/// Whether a read only took too long, which is looked at anew.
fn is_pause(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::Interrupted | io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut)
}

/// Takes a request in; false after the last one of a client.
fn take(request: Request, bytes: usize, client: &Client, inbox: &Inbox) -> Result<bool, Dropped> {
    let command = Command::of(&request.command);
    let is_last = command == Some(Command::Disconnect);
    let outcome = if command == Some(Command::Cancel) {
        let cancelled = arguments::<CancelArguments>(&request);
        Some(response(
            &request,
            cancelled.map(|asked| {
                asked.request_id.into_iter().for_each(|seq| inbox.cancel(seq));
                None
            }),
        ))
    } else {
        let refused = inbox.offer(request, bytes).err();
        refused.map(|request| response(&request, Err(SessionError::TooManyWaiting(MOST_UNANSWERED))))
    };
    let is_told = outcome.is_none_or(|answer| client.outbox.answer(|seq| encoded_answer(&answer, seq), false));
    if is_told { Ok(!is_last) } else { Err(Dropped::Flood) }
}
