//! What clients are told, as messages of the protocol: the only place where notices become events.

use adzeman_core::source::Line;
use adzeman_dap::events::{
    BreakpointBody, ContinuedBody, LoadedSourceBody, OutputBody, ProgressBody, ProgressStartBody, StoppedBody,
};
use adzeman_dap::extra::{
    DROPPED, DroppedBody, HANDLER_LEFT, HandlerLeftBody, RAN, ROLE, RanBody, RoleBody, SAMPLE, STUCK, SampleBody,
    StuckBody, TURNED_AWAY, TurnedAwayBody,
};
use adzeman_dap::{Event, FrameError, Message, encode};
use serde::Serialize;
use serde_json::Value as Json;

use super::convert;
use crate::lane::HostState;
use crate::state::notice::{Notice, Progress, Sample, Stop, Stuck, Text, Tone, cut};

/// A notice as the bytes of a message, for a client that gives the first line this number. One that is longer than a message may
/// be is cut; nothing comes of one that cannot be written at all.
pub(super) fn encoded(notice: &Notice, seq: i64, host: &HostState, line_base: i64) -> Vec<u8> {
    let (event, body) = message(notice, host, line_base);
    let mut message = Message::Event(Event { seq, event: event.to_owned(), body });
    let mut encoded = encode(&message);
    if let (Err(FrameError::BodyTooLong { .. }), Message::Event(Event { body: Some(body), .. })) =
        (&encoded, &mut message)
    {
        cut_texts(body);
        encoded = encode(&message);
    }
    encoded.unwrap_or_else(|error| {
        tracing::error!(%error, event, "a client is not told of something");
        Vec::new()
    })
}

/// The last messages of a connection that the host closes: for this product's own clients, and for editors.
pub(super) fn farewell(why: &str) -> [Notice; 2] {
    [Notice::TurnedAway(why.to_owned()), Notice::text(Tone::Important, format!("{why}\n"))]
}

fn message(notice: &Notice, host: &HostState, line_base: i64) -> (&'static str, Option<Json>) {
    match notice {
        Notice::MayConfigure => ("initialized", Some(Json::Object(serde_json::Map::new()))),
        Notice::HostEnds => ("terminated", Some(Json::Object(serde_json::Map::new()))),
        Notice::Context { id, is_open } => {
            body("thread", &convert::thread_event(if *is_open { "started" } else { "exited" }, *id))
        }
        Notice::Source(id) => {
            let sources = host.sources.look();
            let loaded = sources.get(*id).map(|source| {
                let is_first = sources.first_named(&source.facts.name).is_none_or(|first| first.id == *id);
                let reason = if is_first { "new" } else { "changed" }.to_owned();
                LoadedSourceBody { reason, source: convert::source(source) }
            });
            body("loadedSource", &loaded)
        }
        Notice::Breakpoint(resolved) => {
            let sources = host.sources.look();
            let noted = |place| host.breakpoints.noted_of(&sources, place);
            let breakpoint = convert::breakpoint(resolved, &sources, line_base, noted);
            body("breakpoint", &BreakpointBody { reason: "changed".to_owned(), breakpoint })
        }
        Notice::Stopped(stop) => body("stopped", &stopped(stop, host, line_base)),
        Notice::Continued { context, are_all } => {
            body("continued", &ContinuedBody { thread_id: *context, all_threads_continued: *are_all })
        }
        Notice::Text(text) => body("output", &output(text, host, line_base)),
        Notice::Role { controls, controller } => {
            let role = if *controls { "control" } else { "observe" }.to_owned();
            body(ROLE, &RoleBody { role, controlled_by: controller.clone() })
        }
        Notice::HandlerLeft { context, event, subject, returned } => {
            let (event, subject, returned) = (Some(event.clone()), subject.clone(), returned.clone());
            body(HANDLER_LEFT, &HandlerLeftBody { thread_id: *context, event, subject, returned })
        }
        Notice::Ran { context, outcome, is_stopped } => body(RAN, &ran(*context, outcome, *is_stopped)),
        Notice::Sample(held) => body(SAMPLE, &sample(held)),
        Notice::Stuck(held) => body(STUCK, &stuck(held)),
        Notice::Progress { request, step } => progress(*request, step),
        Notice::Dropped(count) => body(DROPPED, &DroppedBody { messages: *count }),
        Notice::TurnedAway(why) => body(TURNED_AWAY, &TurnedAwayBody { reason: why.clone() }),
    }
}

fn body<T: Serialize>(event: &'static str, body: &T) -> (&'static str, Option<Json>) {
    (event, serde_json::to_value(body).ok())
}

fn progress(request: i64, step: &Progress) -> (&'static str, Option<Json>) {
    let progress_id = format!("request {request}");
    match step {
        Progress::Begun { title } => {
            let (title, request_id, cancellable) = (title.clone(), Some(request), Some(true));
            body("progressStart", &ProgressStartBody { progress_id, title, request_id, cancellable })
        }
        Progress::At { message } => {
            body("progressUpdate", &ProgressBody { progress_id, message: Some(message.clone()) })
        }
        Progress::Ended => body("progressEnd", &ProgressBody { progress_id, message: None }),
    }
}

fn stopped(stop: &Stop, host: &HostState, line_base: i64) -> StoppedBody {
    let number = |line: &Line| convert::line_number(*line, line_base);
    let lines_ran = stop.lines_ran.as_ref().map(|ran| ran.iter().map(number).collect());
    StoppedBody { lines_ran, ..convert::stopped(stop, &host.sources.look()) }
}

fn output(text: &Text, host: &HostState, line_base: i64) -> OutputBody {
    let category = match text.tone {
        Tone::Said => "console",
        Tone::Printed => "stdout",
        Tone::Failed => "stderr",
        Tone::Important => "important",
    };
    let shown = text.place.map(|place| host.sources.shown(place));
    let (source, line) = match shown {
        None => (None, None),
        Some((source, place)) => {
            (source.map(|source| convert::source(&source)), Some(convert::line_number(place.line, line_base)))
        }
    };
    OutputBody {
        category: category.to_owned(),
        output: text.text.clone(),
        source,
        line,
        bell: text.rings.then_some(true),
    }
}

fn ran(context: i64, outcome: &Result<(Option<String>, String), String>, stopped: bool) -> RanBody {
    let success = outcome.is_ok();
    let (type_name, result) = match outcome {
        Ok((type_name, result)) => (type_name.clone(), result.clone()),
        Err(why) => (None, why.clone()),
    };
    RanBody { thread_id: context, success, result, type_name, stopped }
}

fn sample(held: &Sample) -> SampleBody {
    let (type_name, value) = match &held.outcome {
        Ok((type_name, value)) => (Some(type_name.clone()), value.clone()),
        Err(why) => (None, why.clone()),
    };
    SampleBody {
        monitor_id: held.monitor,
        success: held.outcome.is_ok(),
        value,
        type_name,
        seconds: held.at.as_secs_f64(),
        event: held.event.clone(),
        count: held.count,
        cost_microseconds: held.cost.as_secs_f64() * 1e6,
        share: held.share,
        slowed: held.is_slowed,
    }
}

fn stuck(held: &Stuck) -> StuckBody {
    StuckBody {
        thread_id: held.context,
        stuck: held.is_stuck,
        native: held.native.clone(),
        seconds: held.since.as_secs_f64(),
        description: held.description.clone(),
    }
}

/// Cuts long texts, wherever they are, and says so.
fn cut_texts(body: &mut Json) {
    match body {
        Json::String(text) => cut(text),
        Json::Array(items) => items.iter_mut().for_each(cut_texts),
        Json::Object(fields) => fields.values_mut().for_each(cut_texts),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use adzeman_dap::{Decoded, decode};

    use super::*;
    use crate::object::Opened;

    #[test]
    fn a_text_that_makes_too_long_a_message_is_cut() {
        let opened = Opened::new(Vec::new(), Vec::new(), Vec::new(), Vec::new()).unwrap();
        let host = HostState::new("test".to_owned(), opened, false);
        // Each character takes six in the message.
        let long = Notice::text(Tone::Said, "\u{1}".repeat(3_000_000));
        let bytes = encoded(&long, 7, &host, 1);
        let Decoded::Message { message: Message::Event(event), .. } = decode(&bytes).unwrap() else {
            panic!("an event")
        };
        let text = event.body.as_ref().unwrap()["output"].as_str().unwrap();
        assert!(text.len() < 70_000 && text.ends_with("\u{1}… (cut: 3000000 bytes in all)\n"), "{}", text.len());
        assert_eq!(event.seq, 7);
    }
}
