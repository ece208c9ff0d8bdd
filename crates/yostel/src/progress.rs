//! Progress on the terminal: a bar on stderr for anything that takes over half a second, and nothing else.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use yostel_answers::words::stale_note;
use yostel_documents::Difference;
use yostel_flows::{Event, Observer};

use crate::render::{note_at_once, tell};

/// Work shorter than this shows no bar.
const PATIENCE: Duration = Duration::from_millis(500);

/// Draws what a flow reports.
pub(crate) struct TerminalProgress {
    show: bool,
    work: Mutex<Option<Work>>,
    /// Set when somebody wants the work to end.
    stop: Arc<AtomicBool>,
    /// What is said at once.
    says: Says,
    /// Why the lockfile that is looked at does not fit, when it does not.
    stale: Mutex<Vec<String>>,
}

/// What is said at once, on standard error.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Says {
    /// Notes, and what is waited for.
    All,
    /// What is waited for: the notes are in the answer.
    Waiting,
    /// Nothing.
    Nothing,
}

struct Work {
    label: &'static str,
    total: u64,
    done: u64,
    begun: Instant,
    bar: Option<ProgressBar>,
}

impl TerminalProgress {
    pub(crate) fn new(show: bool, says: Says, stop: Arc<AtomicBool>) -> Self {
        Self { show, work: Mutex::new(None), stop, says, stale: Mutex::default() }
    }

    /// Returns why the lockfile that was looked at does not fit the manifests; empty when it does.
    pub(crate) fn stale(&self) -> Vec<String> {
        self.stale.lock().expect("no thread panics while noting").clone()
    }

    fn note_stale(&self, differences: &[Difference]) {
        let mut known = self.stale.lock().expect("no thread panics while noting");
        if self.says == Says::All && known.is_empty() {
            tell(&note_at_once(stale_note(differences)));
        }
        *known = differences.iter().map(ToString::to_string).collect();
    }
}

impl Observer for TerminalProgress {
    fn stops(&self) -> bool {
        // Asked some fifty times a second by work of which nobody knows how long it is.
        if let Ok(mut work) = self.work.try_lock()
            && let Some(work) = work.as_mut().filter(|work| work.total == 0 && work.begun.elapsed() >= PATIENCE)
        {
            work.bar.get_or_insert_with(|| bar(work.label, 0)).tick();
        }
        self.stop.load(Ordering::Relaxed)
    }

    fn notice(&self, event: Event) {
        if let Event::Stale(differences) = &event {
            self.note_stale(differences);
            return;
        }
        if let Event::NotRemembered(why) = &event {
            if self.says == Says::All {
                tell(&note_at_once(format!("yostel undo cannot take this back: {why}")));
            }
            return;
        }
        let waiting = match event {
            Event::Wait => Some("another yostel is at work in this project"),
            Event::WaitForFetch => Some("another yostel is fetching what this one needs"),
            Event::WaitForPrune => Some("another yostel is pruning the cache"),
            Event::WaitForInstalls => Some("others are installing from the cache"),
            _ => None,
        };
        if let Some(waiting) = waiting {
            // Said without a terminal too: a build log should tell why nothing happens.
            if self.says != Says::Nothing {
                tell(&format!("waiting: {waiting}\n"));
            }
            return;
        }
        if !self.show {
            return;
        }
        let mut work = self.work.lock().expect("no thread panics while drawing");
        match event {
            Event::Begin(label, total) => {
                *work = Some(Work { label, total, done: 0, begun: Instant::now(), bar: None });
            }
            Event::Advance(steps) => {
                if let Some(work) = work.as_mut() {
                    work.done += steps;
                    if work.begun.elapsed() >= PATIENCE {
                        let bar = work.bar.get_or_insert_with(|| bar(work.label, work.total));
                        bar.set_position(work.done);
                    }
                }
            }
            Event::End => {
                if let Some(bar) = work.take().and_then(|work| work.bar) {
                    bar.finish_and_clear();
                }
            }
            _ => {}
        }
    }
}

fn bar(label: &'static str, total: u64) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(total).filter(|total| *total > 0), ProgressDrawTarget::stderr());
    let counts =
        if ["fetching", "saving", "loading"].contains(&label) { "{bytes} of {total_bytes}" } else { "{pos} of {len}" };
    let template = match total {
        0 => "{msg} {spinner:.green} {elapsed}".to_owned(),
        _ => format!("{{msg}} {{bar:32.green}} {counts}, {{eta}} to go"),
    };
    if let Ok(style) = ProgressStyle::with_template(&template) {
        bar.set_style(style.progress_chars("=> "));
    }
    bar.set_message(label);
    bar
}
