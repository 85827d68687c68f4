use std::collections::BTreeMap;
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use zoisite_core::sequence::{Engine, State};
use zoisite_reach::RunEvent;

use super::{Style, count, seconds};

/// A row for each host and one for all gates: how many of its steps are done, what runs and what it
/// waits for, or what comes next and why not yet. They change in place.
pub struct Live {
    rows: Vec<Row>,
    total: ProgressBar,
    doing: BTreeMap<usize, String>,
    took: BTreeMap<usize, Duration>,
    style: Style,
    stopping: Option<&'static str>,
    _screen: MultiProgress,
}

struct Row {
    name: String,
    steps: Vec<usize>,
    bar: ProgressBar,
}

/// The row of what concerns the whole cluster.
const GATES: &str = "cluster";

const WAITING: &str = "stopping: what runs is waited for; Ctrl-C again stops at once";
const STOPPED: &str = "stopped at once";

/// Rows that fit on a screen; of more hosts the busiest are worth looking at, and all are counted.
const MOST_ROWS: usize = 24;

impl Live {
    pub fn new(engine: &Engine) -> Self {
        let screen = MultiProgress::new();
        let style = Style::stderr();
        let mut rows: Vec<(String, Vec<usize>)> = Vec::new();
        for (index, step) in engine.steps().iter().enumerate() {
            let name = step.host.as_ref().map_or_else(|| GATES.to_owned(), ToString::to_string);
            match rows.iter().position(|(known, _)| *known == name) {
                Some(row) => rows[row].1.push(index),
                None if rows.len() < MOST_ROWS => rows.push((name, vec![index])),
                None => {}
            }
        }
        // Gates belong to no host, and come last.
        rows.sort_by_key(|(name, _)| name == GATES);
        let rows: Vec<Row> = rows
            .into_iter()
            .map(|(name, steps)| Row { name, steps, bar: screen.add(ProgressBar::new_spinner()) })
            .collect();
        let width = rows.iter().map(|row| row.name.len()).max().unwrap_or(0);
        for row in &rows {
            row.bar.set_style(row_style(false));
            row.bar.set_prefix(format!("{:<width$}", row.name));
        }
        let total = screen.add(ProgressBar::new(engine.steps().len() as u64));
        let template = "  {bar:24.cyan/dim} {pos} of {len} steps · {elapsed} {msg}";
        total.set_style(
            ProgressStyle::with_template(template)
                .unwrap_or_else(|_| ProgressStyle::default_bar())
                .progress_chars("━━─"),
        );
        total.enable_steady_tick(Duration::from_millis(250));
        let mut live = Self {
            rows,
            total,
            doing: BTreeMap::new(),
            took: BTreeMap::new(),
            style,
            stopping: None,
            _screen: screen,
        };
        live.draw(engine);
        live
    }

    pub fn event(&mut self, event: &RunEvent, engine: &Engine) {
        match event {
            RunEvent::Began { step, .. } => {
                self.doing.insert(*step, String::new());
            }
            RunEvent::Doing { step, what, .. } => {
                self.doing.insert(*step, what.clone());
            }
            RunEvent::Ended { step, took, .. } => {
                self.doing.remove(step);
                self.took.insert(*step, *took);
            }
            RunEvent::Interrupted => self.stopping = Some(WAITING),
            RunEvent::Stopped => self.stopping = Some(STOPPED),
        }
        self.draw(engine);
    }

    fn draw(&mut self, engine: &Engine) {
        for row in &self.rows {
            let message = self.message(row, engine);
            row.bar.set_message(super::tame(&message).into_owned());
            let busy = row.steps.iter().any(|step| engine.states()[*step] == State::Running);
            row.bar.set_style(row_style(busy));
            if busy {
                row.bar.enable_steady_tick(Duration::from_millis(120));
            } else {
                row.bar.disable_steady_tick();
                row.bar.tick();
            }
        }
        let tally = engine.tally();
        self.total.set_position((tally.done + tally.failed) as u64);
        if let Some(how) = self.stopping {
            self.total.set_message(self.style.warn(how));
        } else if tally.failed > 0 {
            self.total.set_message(self.style.bad(&format!("{} failed", tally.failed)));
        }
    }

    fn message(&self, row: &Row, engine: &Engine) -> String {
        let style = self.style;
        let states = engine.states();
        let name = |step: usize| engine.steps()[step].name();
        let of = |wanted: &dyn Fn(&State) -> bool| -> Vec<usize> {
            row.steps.iter().copied().filter(|step| wanted(&states[*step])).collect()
        };
        let done = of(&|state| matches!(state, State::Done(_)));
        let failed = of(&|state| matches!(state, State::Failed(_)));
        let running = of(&|state| *state == State::Running);
        let count_of = format!("{:>2}/{:<2}", done.len(), row.steps.len());
        let mut parts = Vec::new();
        for step in &failed {
            let answer = match &states[*step] {
                State::Failed(trouble) => trouble.answer.as_str(),
                _ => "",
            };
            parts.push(format!(
                "{} {}",
                style.bad(&format!("✗ {}", name(*step))),
                style.dim(answer)
            ));
        }
        for step in &running {
            let doing = self.doing.get(step).map_or("", String::as_str);
            parts.push(format!(
                "{} {}",
                style.busy(&format!("▸ {}", name(*step))),
                style.dim(doing)
            ));
        }
        if parts.is_empty() && done.len() == row.steps.len() {
            let longest = done.iter().max_by_key(|step| self.took.get(*step).copied());
            let longest = longest.map_or(String::new(), |step| {
                let took = self.took.get(step).copied().unwrap_or_default();
                format!("longest: {} {}", name(*step), seconds(took))
            });
            return format!("{}  {}", style.good(&format!("✓ {count_of}")), style.dim(&longest));
        }
        if parts.is_empty()
            && let Some(step) = of(&|state| *state == State::Waiting).first()
        {
            let missing: Vec<&str> = engine.steps()[*step]
                .needs
                .iter()
                .filter(|need| !matches!(states[**need], State::Done(_)))
                .map(|need| engine.steps()[*need].id.as_str())
                .collect();
            let why = match missing.as_slice() {
                [] => String::new(),
                [one] => format!("waits for {one}"),
                [one, more @ ..] => {
                    format!("waits for {one} and {}", count(more.len(), "other step"))
                }
            };
            parts.push(style.dim(&format!("· {} {why}", name(*step))));
        }
        format!("  {count_of}  {}", parts.join("  "))
    }

    /// Leaves the last state on the screen.
    pub fn end(&mut self, engine: &Engine) {
        self.draw(engine);
        for row in &self.rows {
            row.bar.abandon();
        }
        self.total.abandon();
        let _ = std::io::Write::write_all(&mut std::io::stderr(), b"\n");
    }
}

/// A row's form: with a spinner while something runs there.
fn row_style(busy: bool) -> ProgressStyle {
    let template =
        if busy { "  {spinner:.cyan} {prefix}  {wide_msg}" } else { "    {prefix}  {wide_msg}" };
    ProgressStyle::with_template(template)
        .unwrap_or_else(|_| ProgressStyle::default_spinner())
        .tick_strings(&["⠋", "⠙", "⠹", "⠸", "⠼", "⠴", "⠦", "⠧", "⠇", "⠏", " "])
}
