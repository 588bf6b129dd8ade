//! Counting values: all that can be reached, while the script stands still, or all that there are, a part at a time.

use std::time::Instant;

use adzeman_core::engine::EngineError;
use adzeman_core::heap::{Census, Tally};
use rustc_hash::FxHashMap as HashMap;

use super::groups::{Groups, names_of_tables};
use super::{Heap, NOT_KNOWN, require_graph};
use crate::ffi::graph::{Graph, Work};
use crate::ffi::objects::{Progress, Sweep};
use crate::ffi::sizes::bytes_in_use;
use crate::ffi::state::{Slot, State};
use crate::scripts::Scripts;

const SLOTS: [Slot; 2] = [Slot::Census, Slot::CensusFinalized];

/// A census that is taken a part at a time.
pub(super) struct UnderWay {
    tally: Tally,
    sweeps: [Sweep; 2],
    /// Names of global tables when it began.
    names: HashMap<usize, String>,
    values: u64,
}

impl Heap {
    /// Counts all that can be reached. The collector is held.
    pub(crate) fn count_standing(
        &self,
        running: Vec<State>,
        main: State,
        scripts: &Scripts,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<Option<Census>, EngineError> {
        require_graph()?;
        let engine_bytes = bytes_in_use(main);
        let work = Work::new(main)?;
        let mut tally = Tally::default();
        let names = names_of_tables(work.thread())?;
        let mut groups = Groups::new(scripts, &mut tally, &names);
        let mut graph = Graph::new(&work, running, None);
        graph.begin(&mut |value| groups.count(value));
        let is_whole = graph.run(may_go_on, &mut |value| groups.count(value))?;
        let own_bytes = graph.own_bytes();
        Ok(is_whole.then(|| tally.finish(engine_bytes, false, own_bytes)))
    }

    /// Counts on, until all there are were counted or `may_go_on` says to leave the rest for the next time.
    pub(crate) fn count_running(
        &self,
        main: State,
        scripts: &Scripts,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<Option<Census>, EngineError> {
        let mut under_way = match self.under_way.take() {
            Some(under_way) => under_way,
            None => UnderWay {
                tally: Tally::default(),
                sweeps: Sweep::of_all_values(SLOTS),
                names: names_of_tables(main)?,
                values: 0,
            },
        };
        let outcome = under_way.go_on(main, scripts, may_go_on);
        match outcome {
            Ok(true) => {
                Self::clear(main);
                Ok(Some(under_way.tally.finish(bytes_in_use(main), true, 0)))
            }
            Ok(false) => {
                *self.under_way.borrow_mut() = Some(under_way);
                Ok(None)
            }
            Err(error) => {
                Self::clear(main);
                Err(error)
            }
        }
    }

    /// Forgets the census under way.
    pub(crate) fn give_up(&self, main: State) {
        if self.under_way.take().is_some() {
            Self::clear(main);
        }
    }

    fn clear(main: State) {
        SLOTS.iter().for_each(|slot| main.clear_slot(*slot));
    }
}

impl UnderWay {
    /// Whether all were counted.
    fn go_on(
        &mut self,
        main: State,
        scripts: &Scripts,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<bool, EngineError> {
        let mut groups = Groups::new(scripts, &mut self.tally, &self.names);
        for sweep in &self.sweeps {
            loop {
                let values = &mut self.values;
                // It always goes through some; whether there is time for more is asked afterwards.
                let progress = sweep.step(main, Instant::now(), &mut |object| {
                    if object.push(main) {
                        groups.count(main);
                        main.pop(1);
                        *values += 1;
                    }
                })?;
                match progress {
                    Progress::Done => break,
                    Progress::NotKnown => return Err(EngineError::Runtime(NOT_KNOWN.to_owned())),
                    Progress::Going if may_go_on(*values) => {}
                    Progress::Going => return Ok(false),
                }
            }
        }
        Ok(true)
    }
}
