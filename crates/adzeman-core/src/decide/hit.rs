//! Asking breakpoints, and doing what those do that are hit.

use super::{Moment, Reason, Said};
use crate::breakpoint::{Action, Breakpoint, BreakpointId, Piece, Sited, Template};
use crate::engine::Engine;

/// What came of asking the breakpoints of a place.
pub(super) enum Hit {
    /// These stop.
    Ids(Vec<BreakpointId>),
    /// Only temporary ones stop.
    Arrived,
    Failed {
        id: BreakpointId,
        condition: String,
        why: String,
    },
}

/// Takes a hit as the reason, unless there is one already.
pub(super) fn keep(reason: &mut Option<Reason>, hit: Option<Hit>, of_ids: impl FnOnce(Vec<BreakpointId>) -> Reason) {
    if let (None, Some(hit)) = (&reason, hit) {
        *reason = Some(match hit {
            Hit::Ids(ids) => of_ids(ids),
            Hit::Arrived => Reason::Arrived,
            Hit::Failed { id, condition, why } => Reason::ConditionFailed { id, condition, why },
        });
    }
}

/// Asks each candidate; those that are hit do what they are there for.
pub(super) fn hit<'a>(
    candidates: impl Iterator<Item = &'a Sited>,
    moment: Moment<'_>,
    engine: &mut dyn Engine,
    said: &mut Vec<Said>,
) -> Option<Hit> {
    let (mut ids, mut arrived, mut failure) = (Vec::new(), false, None);
    for sited in candidates.filter(|sited| sited.is_live() && moment.concerns(&sited.breakpoint)) {
        let held = &*sited.breakpoint;
        match held.spec.condition.as_deref().map_or(Ok(true), |condition| engine.condition(held.id, condition)) {
            Ok(true) if held.reach() => {
                held.note_last(moment.occasion());
                act(held, moment, engine, said);
                if held.spec.temporary {
                    arrived = true;
                } else if held.spec.action.stops() {
                    ids.push(held.id);
                }
            }
            Ok(_) => {}
            Err(why) if held.note_failure(&format!("its condition failed: {why}")) => {
                let condition = held.spec.condition.clone().unwrap_or_default();
                failure = Some(Hit::Failed { id: held.id, condition, why: why.to_string() });
            }
            Err(_) => {}
        }
    }
    failure.or_else(|| (!ids.is_empty()).then_some(Hit::Ids(ids))).or_else(|| arrived.then_some(Hit::Arrived))
}

/// Does what a breakpoint does besides stopping.
fn act(held: &Breakpoint, moment: Moment<'_>, engine: &mut dyn Engine, said: &mut Vec<Said>) {
    let mut say = |text: String, is_trouble: bool, rings: bool| {
        said.push(Said { owner: held.owner, id: held.id, text, is_trouble, rings, place: moment.place });
    };
    match &held.spec.action {
        Action::Stop => {}
        Action::Ring => say(format!("breakpoint {} was hit", held.label()), false, true),
        Action::Say(template) => say(filled(held, template, engine), false, false),
        Action::Run(statement) => {
            if let Err(why) = engine.run_statement(held.id, statement)
                && held.note_failure(&format!("its statement failed: {why}"))
            {
                say(format!("breakpoint {} could not run '{statement}': {why}", held.label()), true, false);
            }
        }
    }
}

/// A template with its expressions evaluated; one that fails says so in its place.
fn filled(held: &Breakpoint, template: &Template, engine: &mut dyn Engine) -> String {
    let mut text = String::new();
    for (slot, piece) in template.pieces().iter().enumerate() {
        match piece {
            Piece::Text(plain) => text.push_str(plain),
            Piece::Hits => text.push_str(&held.hits().to_string()),
            Piece::Name => text.push_str(&held.label()),
            Piece::Expression(expression) => match engine.text_of(held.id, slot, expression) {
                Ok(value) => text.push_str(&value),
                Err(why) => text.push_str(&format!("<{why}>")),
            },
        }
    }
    text
}
