//! Hosts that come and go: started for this session, gone and back, and what is set in each of them again.

use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::extra::{self, SourceMapArguments, SourceTextArguments, SourceTextBody};
use adzeman_dap::requests::LoadedSourcesBody;
use adzeman_dap::types::Source;
use serde_json::json;

use super::breakpoints::MOST_BREAKPOINTS;
use super::{Owned, Session, open};
use crate::command;
use crate::error::CliError;
use crate::project::maps;
use crate::reach::launch::{Launch, Launched, Marked};
use crate::reach::{self, Reached};
use crate::render::Printer;
use crate::report::Notice;
use crate::signals;

/// Starts a host, saying exactly what is run.
pub(crate) fn launch_shown(
    launch: &Launch,
    marked: &Marked,
    printer: &Printer,
) -> Result<(Launched, Reached), CliError> {
    printer.remark(&launch.shown());
    let show = printer.show_line();
    let (launched, reached) = Launched::start(launch, marked, &show)?;
    printer.remark(&format!("started as process {}", launched.id()));
    Ok((launched, reached))
}

impl Session<'_> {
    /// Takes a host that was started for this session.
    pub(crate) fn owns(&mut self, owned: Owned) {
        self.client.set_marks(owned.marked.clone());
        self.origin.owned = Some(owned);
    }

    /// Ends the session; the host that was started for it is the caller's then.
    pub(crate) fn into_owned(self) -> Option<Owned> {
        self.origin.owned
    }

    /// Ends the host that was started for this session, and starts it again.
    pub(crate) fn start_again(&mut self) -> Result<(), CliError> {
        let Some(mut owned) = self.origin.owned.take() else {
            let why =
                "this host was not started by 'adzeman start'; end it as it was started, and attach with --follow";
            return Err(CliError::Refused(why.to_owned()));
        };
        owned.launched.end()?;
        let (launched, reached) = launch_shown(&owned.launch, &owned.marked, self.printer)?;
        self.origin.target.clone_from(&reached.target);
        self.join(reached)?;
        self.owns(Owned { launched, ..owned });
        Ok(())
    }

    /// Waits until the host, which is gone, is there again, and sets everything again.
    pub(crate) fn come_back(&mut self) -> Result<(), CliError> {
        self.printer.notice(&Notice::Following { host: self.host.name.clone() });
        signals::forget_interrupt();
        let begun = Instant::now();
        loop {
            let reached = reach::wait_for(Some(&self.origin.target), None, |waited| self.tell_waiting(waited))?;
            match self.join(reached) {
                // It was about to end, or is still busy with its start.
                Err(CliError::HostGone(_) | CliError::NotAHost { .. } | CliError::NoAnswer(_)) => {
                    self.tell_waiting(begun.elapsed())?;
                    thread::sleep(reach::LOOK_AGAIN_AFTER);
                }
                outcome => return outcome,
            }
        }
    }

    /// Attaches to a host that takes the place of the one before, and sets everything again.
    pub(super) fn join(&mut self, reached: Reached) -> Result<(), CliError> {
        let (client, host, role) = open(reached, &self.origin.manner, self.breakpoints.armed, &self.files.library)?;
        let follows_saves = self.client.follows_saves();
        self.client = client;
        self.host = host;
        self.role = role;
        self.forget_stop();
        self.at.selected = None;
        self.elsewhere.clear();
        self.refresh_contexts()?;
        self.compare_sources()?;
        if follows_saves {
            self.reload_on_save(true)?;
        }
        self.give_maps()?;
        let breakpoints = self.set_again()?;
        self.ready()?;
        let (host, process_id) = (self.host.name.clone(), self.host.process_id);
        self.printer.notice(&Notice::AttachedAgain { host, process_id, breakpoints });
        for held in self.breakpoints.all.iter().filter(|held| held.id.is_none()) {
            self.printer.notice(&held.notice());
        }
        Ok(())
    }

    pub(super) fn tell_waiting(&self, waited: Duration) -> Result<(), CliError> {
        self.printer.progress(&self.origin.target, waited);
        if signals::take_interrupt() {
            return Err(CliError::HostGone("nobody waits for it any more".to_owned()));
        }
        Ok(())
    }

    /// Sets the breakpoints of the project file; one that cannot be set is told of, and stays in the file. Takes its watches.
    /// Answers how many breakpoints were set.
    pub(crate) fn set_kept(&mut self) -> Result<usize, CliError> {
        self.give_maps()?;
        let breaks = if self.role.controls { self.files.project.breaks() } else { Vec::new() };
        if breaks.len() > MOST_BREAKPOINTS {
            let why = format!("it has {} breakpoints, and a host takes {MOST_BREAKPOINTS} of one client", breaks.len());
            return Err(CliError::BadProject { file: self.files.project.shown(), why });
        }
        for line in breaks {
            let set = command::parse(&format!("break {line}")).and_then(|command| match command {
                command::Command::Break(wanted) => self.add_breakpoint(*wanted),
                _ => Err(CliError::Usage("that is no breakpoint".to_owned())),
            });
            match set {
                Ok(_) => self.breakpoints.all.iter_mut().last().into_iter().for_each(|held| held.is_kept = true),
                Err(error) if error.is_final() => return Err(error),
                Err(error) => {
                    let (file, why) = (self.files.project.shown(), error.to_string());
                    self.printer.notice(&Notice::NotSet { what: line.clone(), file, why });
                    self.breakpoints.unset.push(line);
                }
            }
        }
        for line in self.files.project.watches() {
            if let Ok(wanted) = command::parse_watch(&line) {
                self.add_watch(wanted, true);
            }
        }
        Ok(self.breakpoints.all.len())
    }

    /// Gives the host the source maps that the project file names; one that cannot be read is told of.
    pub(super) fn give_maps(&mut self) -> Result<(), CliError> {
        for (path, file) in if self.role.controls { self.files.project.maps() } else { Vec::new() } {
            match maps::read(&file) {
                Ok(map) => {
                    let _: serde_json::Value =
                        self.client.request(extra::SOURCE_MAP, &SourceMapArguments { path, map })?;
                }
                Err(why) => {
                    let what = format!("the source map {}", file.display());
                    self.printer.notice(&Notice::NotSet { what, file: self.files.project.shown(), why });
                }
            }
        }
        Ok(())
    }

    /// Says which files here are not what the host runs.
    pub(crate) fn compare_sources(&mut self) -> Result<(), CliError> {
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        self.files.stale.clear();
        for source in &body.sources {
            self.compare(source);
            self.tell_of_another_text(source);
        }
        Ok(())
    }

    /// Says so if a script was changed since it was loaded.
    pub(super) fn tell_of_another_text(&self, source: &Source) {
        if let Some(path) = source.path.as_ref().filter(|_| source.loaded_as.is_some()) {
            self.printer.notice(&Notice::Reloaded { path: self.files.paths.to_local(path) });
        }
    }

    /// The host has no text of a source: one that is here may be it, which the host finds out. Whoever only looks gives nothing, and
    /// a host that does not want it goes without.
    fn give_text(&mut self, source: &Source, path: String) {
        let Some(text) = self.files.paths.text(source).filter(|_| self.role.controls) else { return };
        let _: Result<SourceTextBody, CliError> =
            self.client.request(extra::SOURCE_TEXT, &SourceTextArguments { path, text });
    }

    /// Says so if the file here that stands for a source has another text.
    pub(super) fn compare(&mut self, source: &Source) {
        let Some(path) = source.path.clone() else { return };
        if source.checksums.is_none() {
            self.give_text(source, path);
            return;
        }
        match self.files.paths.stale(source) {
            Some(stale) => {
                self.printer.notice(&Notice::Stale(stale.clone()));
                self.files.stale.insert(path, stale);
            }
            None => {
                self.files.stale.remove(&path);
            }
        }
    }
}
