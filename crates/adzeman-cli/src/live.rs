//! Live views: a few lines of the terminal, refreshed in place; of monitors, and of a source that runs.

use std::collections::BTreeMap;
use std::io::{self, Stdout};
use std::time::{Duration, Instant};

use ratatui::backend::CrosstermBackend;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::crossterm::terminal::{disable_raw_mode, enable_raw_mode};
use ratatui::layout::{Constraint, Rect};
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Text};
use ratatui::widgets::{Cell, Paragraph, Row, Sparkline, Table, Widget as _};
use ratatui::{Frame, Terminal, TerminalOptions, Viewport};

use crate::error::CliError;
use crate::report::{Report, SampleRow, cost};

/// Samples that the course of a value is drawn from.
const COURSE: usize = 20;
/// Between two refreshes.
const REFRESH: Duration = Duration::from_millis(100);

/// What the person asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Key {
    None,
    /// The space: samples of everything, now; or to stop there.
    Sample,
    Leave,
}

/// One monitor in the view.
struct Shown {
    title: String,
    last: Option<SampleRow>,
    /// The last values, as far as they are numbers.
    course: Vec<f64>,
}

pub(crate) struct LiveView {
    screen: Screen,
    shown: BTreeMap<usize, Shown>,
    drawn: Option<Instant>,
}

/// Lines of the terminal, which is put back when they are dropped.
struct Screen {
    terminal: Terminal<CrosstermBackend<Stdout>>,
    is_open: bool,
}

fn broken(error: io::Error) -> CliError {
    CliError::Terminal(error.to_string())
}

impl Screen {
    fn open(height: u16) -> Result<Self, CliError> {
        enable_raw_mode().map_err(broken)?;
        let options = TerminalOptions { viewport: Viewport::Inline(height) };
        let terminal = Terminal::with_options(CrosstermBackend::new(io::stdout()), options).map_err(|error| {
            // The terminal is put back as far as that goes.
            let _ = disable_raw_mode();
            broken(error)
        })?;
        Ok(Self { terminal, is_open: true })
    }

    /// Prints what happened meanwhile above the view.
    fn print_above(&mut self, notices: &[String]) -> Result<(), CliError> {
        for line in notices.iter().flat_map(|notice| notice.lines()) {
            let write = |buffer: &mut Buffer| Paragraph::new(line).render(buffer.area, buffer);
            self.terminal.insert_before(1, write).map_err(broken)?;
        }
        Ok(())
    }

    /// The first key that was pressed and means anything.
    fn key() -> Result<Key, CliError> {
        let mut key = Key::None;
        while key == Key::None && event::poll(Duration::ZERO).map_err(broken)? {
            if let Event::Key(pressed) = event::read().map_err(broken)?
                && pressed.kind == KeyEventKind::Press
            {
                let is_control = pressed.modifiers.contains(KeyModifiers::CONTROL);
                key = match pressed.code {
                    KeyCode::Char('c') if is_control => Key::Leave,
                    KeyCode::Char('q') | KeyCode::Esc => Key::Leave,
                    KeyCode::Char(' ') | KeyCode::Enter => Key::Sample,
                    _ => key,
                };
            }
        }
        Ok(key)
    }

    fn put_back(&mut self) -> io::Result<()> {
        if std::mem::take(&mut self.is_open) {
            // What comes next begins below the view.
            let last = self.terminal.get_frame().area().bottom().saturating_sub(1);
            self.terminal.set_cursor_position((0, last))?;
            disable_raw_mode()?;
            self.terminal.show_cursor()?;
            println!();
        }
        Ok(())
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        // Nothing more can be done for a terminal that is gone.
        let _ = self.put_back();
    }
}

/// A report that is drawn again in its place: a source that runs, or a table.
pub(crate) struct ReportView {
    screen: Screen,
}

impl ReportView {
    /// Takes so many lines of the terminal.
    pub(crate) fn open(height: u16) -> Result<Self, CliError> {
        Screen::open(height).map(|screen| Self { screen })
    }

    /// Draws what a context runs.
    pub(crate) fn show(&mut self, report: &Report) -> Result<(), CliError> {
        self.screen.terminal.draw(|frame| draw_running(frame, report)).map_err(broken)?;
        Ok(())
    }

    /// Draws a text.
    pub(crate) fn show_text(&mut self, text: &str) -> Result<(), CliError> {
        let lines = || text.lines().map(|line| Line::raw(line.to_owned())).collect();
        self.screen.terminal.draw(|frame| draw_lines(frame, lines())).map_err(broken)?;
        Ok(())
    }

    pub(crate) fn print_above(&mut self, notices: &[String]) -> Result<(), CliError> {
        self.screen.print_above(notices)
    }

    /// The key that was pressed: [`Key::Sample`] to stop there.
    pub(crate) fn key(&mut self) -> Result<Key, CliError> {
        Screen::key()
    }

    /// Leaves the last state on the terminal, below which the prompt goes on.
    pub(crate) fn close(mut self) -> Result<(), CliError> {
        self.screen.put_back().map_err(broken)
    }
}

/// The lines around the one that runs, those that the event ran marked.
fn draw_running(frame: &mut Frame<'_>, report: &Report) {
    let Report::Running { context, event, listing, cut } = report else { return };
    let mut lines = Vec::new();
    let event = event.as_ref().map_or(String::new(), |event| format!(", {event}"));
    let cut = if *cut { ", its first lines" } else { "" };
    lines.push(Line::styled(format!("{context} runs{event}{cut}"), STRONG));
    match listing {
        None => lines.push(Line::styled("nothing, for now", QUIET)),
        Some(listing) => {
            lines.push(Line::styled(listing.path.clone(), QUIET));
            for (number, text) in (listing.first..).zip(&listing.lines) {
                let is_here = listing.current == Some(number);
                let (mark, style) = match (is_here, listing.ran.contains(&number)) {
                    (true, _) => ("→", STRONG),
                    (false, true) => ("✓", Style::new()),
                    (false, false) => (" ", QUIET),
                };
                lines.push(Line::styled(format!("{mark} {number:>4} │ {}", text.replace('\t', "    ")), style));
            }
        }
    }
    draw_lines(frame, lines);
}

/// Lines, as far as there is room, above what the keys do.
fn draw_lines(frame: &mut Frame<'_>, mut lines: Vec<Line<'_>>) {
    let area = frame.area();
    lines.truncate(usize::from(area.height.saturating_sub(1)));
    frame.render_widget(Paragraph::new(lines), area);
    let last = Rect { y: area.bottom().saturating_sub(1), height: 1.min(area.height), ..area };
    frame.render_widget(Paragraph::new(Line::styled("space stops there, q goes back to the prompt", QUIET)), last);
}

impl LiveView {
    /// Takes as many lines of the terminal as the monitors need, with their numbers and titles.
    pub(crate) fn open(monitors: Vec<(usize, String)>) -> Result<Self, CliError> {
        let height = u16::try_from(monitors.len()).unwrap_or(u16::MAX).saturating_add(2).min(40);
        let screen = Screen::open(height)?;
        let shown =
            monitors.into_iter().map(|(number, title)| (number, Shown { title, last: None, course: Vec::new() }));
        Ok(Self { screen, shown: shown.collect(), drawn: None })
    }

    pub(crate) fn take(&mut self, row: &SampleRow) {
        if let Some(shown) = self.shown.get_mut(&row.number) {
            shown.course.extend(row.value.parse::<f64>().ok().filter(|number| number.is_finite()));
            let surplus = shown.course.len().saturating_sub(COURSE);
            shown.course.drain(..surplus);
            shown.last = Some(row.clone());
        }
    }

    /// Prints what happened meanwhile above the view.
    pub(crate) fn print_above(&mut self, notices: &[String]) -> Result<(), CliError> {
        self.screen.print_above(notices)
    }

    /// Draws what has changed, and answers the key that was pressed.
    pub(crate) fn refresh(&mut self) -> Result<Key, CliError> {
        if self.drawn.is_none_or(|drawn| drawn.elapsed() >= REFRESH) {
            self.draw()?;
        }
        Screen::key()
    }

    fn draw(&mut self) -> Result<(), CliError> {
        self.drawn = Some(Instant::now());
        let shown = &self.shown;
        self.screen.terminal.draw(|frame| draw(frame, shown)).map_err(broken)?;
        Ok(())
    }

    /// Leaves the last state on the terminal, below which the prompt goes on.
    pub(crate) fn close(mut self) -> Result<(), CliError> {
        self.draw()?;
        self.screen.put_back().map_err(broken)
    }
}

const QUIET: Style = Style::new().add_modifier(Modifier::DIM);
const STRONG: Style = Style::new().add_modifier(Modifier::BOLD);
const WIDTHS: [Constraint; 6] = [
    Constraint::Fill(3),
    Constraint::Fill(2),
    Constraint::Length(COURSE as u16),
    Constraint::Length(9),
    Constraint::Length(10),
    Constraint::Length(18),
];

fn draw(frame: &mut Frame<'_>, shown: &BTreeMap<usize, Shown>) {
    let area = frame.area();
    let header = Row::new(["monitor", "value", "course", "samples", "cost", "share of time"]).style(QUIET);
    let rows = shown.values().map(|shown| Row::new(cells(shown)));
    let lines = Rect { height: area.height.saturating_sub(1), ..area };
    frame.render_widget(Table::new(rows, WIDTHS).header(header).column_spacing(2), lines);
    let columns = ratatui::layout::Layout::horizontal(WIDTHS).spacing(2).split(lines);
    for (position, shown) in (1..).zip(shown.values()) {
        if position < lines.height {
            let line = Rect { y: lines.y + position, height: 1, ..columns[2] };
            frame.render_widget(course(&shown.course), line);
        }
    }
    let last = Rect { y: area.bottom().saturating_sub(1), height: 1.min(area.height), ..area };
    frame.render_widget(Paragraph::new(Line::styled("space samples now, q goes back to the prompt", QUIET)), last);
}

fn cells(shown: &Shown) -> Vec<Cell<'static>> {
    let title = Cell::new(shown.title.clone());
    let Some(row) = &shown.last else { return vec![title, Cell::new(Text::styled("waits", QUIET))] };
    let value = Text::styled(row.value.clone(), if row.success { STRONG } else { QUIET });
    let slowed = if row.slowed { ", slowed" } else { "" };
    vec![
        title,
        Cell::new(value),
        Cell::new(""),
        Cell::new(row.count.to_string()),
        Cell::new(cost(row.cost_microseconds)),
        Cell::new(format!("{:.2}%{slowed}", row.share * 100.0)),
    ]
}

/// The course of a value, from its least to its greatest.
fn course(values: &[f64]) -> Sparkline<'static> {
    let least = values.iter().copied().fold(f64::INFINITY, f64::min);
    let span = values.iter().copied().fold(f64::NEG_INFINITY, f64::max) - least;
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it lies between 13 and 100")]
    let height = |value: &f64| if span > 0.0 { (13.0 + 87.0 * (value - least) / span) as u64 } else { 50 };
    Sparkline::default().data(values.iter().map(height).collect::<Vec<_>>()).max(100)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::report::Listing;
    use ratatui::backend::TestBackend;

    #[test]
    fn the_view_shows_value_course_cost_and_share() {
        let row = |value: &str, slowed| SampleRow {
            number: 1,
            what: String::new(),
            success: true,
            value: value.to_owned(),
            type_name: None,
            seconds: 1.0,
            during: None,
            count: 3,
            cost_microseconds: 1500.0,
            share: 0.0199,
            slowed,
        };
        let shown =
            Shown { title: "turns every 2s".to_owned(), last: Some(row("7.5", true)), course: vec![1.0, 4.0, 7.5] };
        let waiting = Shown { title: "x".to_owned(), last: None, course: Vec::new() };
        let mut terminal = Terminal::new(TestBackend::new(100, 4)).unwrap();
        terminal.draw(|frame| draw(frame, &[(1, shown), (2, waiting)].into())).unwrap();
        let text = terminal.backend().to_string();
        for part in ["turns every 2s", "7.5", "1.5 ms", "1.99%, slowed", "waits", "space samples now", "█"] {
            assert!(text.contains(part), "'{part}' is missing in\n{text}");
        }
    }

    #[test]
    fn a_source_that_runs_is_shown_around_the_line() {
        let listing = Listing {
            path: "scripts/lock.lua".to_owned(),
            first: 41,
            lines: ["function update(dt, lock)", "\tlocal wanted = choose(lock)", "end"].map(str::to_owned).to_vec(),
            current: Some(43),
            ran: vec![42],
        };
        let event = Some("frame.update of lock.upper".to_owned());
        let report = Report::Running { context: "lock.upper".to_owned(), event, listing: Some(listing), cut: true };
        let mut terminal = Terminal::new(TestBackend::new(60, 6)).unwrap();
        terminal.draw(|frame| draw_running(frame, &report)).unwrap();
        let text = terminal.backend().to_string();
        let parts = [
            "lock.upper runs, frame.update of lock.upper, its first",
            "✓   42 │     local",
            "→   43 │ end",
            "space stops there",
        ];
        for part in parts {
            assert!(text.contains(part), "'{part}' is missing in\n{text}");
        }
    }
}
