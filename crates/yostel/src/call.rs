//! From what was typed and the environment to what it means: folders, clock, settings.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use jiff::Timestamp;
use yostel_answers::words::{Viewpoint, shell_word};
use yostel_answers::{Code, Diagnostic};
use yostel_documents::PackageName;
use yostel_flows::{
    Context, DiskFiles, FlowError, Journal, LoadedProject, Patience, ProjectError, RealSources, Settings,
    current_platform, load_manifests, load_project,
};
use yostel_sources::StoredCredentials;
use yostel_versions::{Order, Version};

use crate::options::{Color, Format, Options};
use crate::progress::{Says, TerminalProgress};
use crate::signals;

/// Longest time that one may want to wait, in seconds: a day.
const MOST_SECONDS: u64 = 86_400;

/// How often an edit is made anew because others edit too.
const MOST_EDITS: usize = 100;

/// All that a command works with besides its own options.
pub(crate) struct Call {
    pub(crate) folder: PathBuf,
    pub(crate) settings: Settings,
    /// The project of the workspace to work on, when one was named.
    pub(crate) project: Option<PackageName>,
    pub(crate) format: Format,
    pub(crate) quiet: bool,
    pub(crate) progress: TerminalProgress,
}

impl Call {
    pub(crate) fn new(options: &Options) -> Result<Self, Diagnostic> {
        match options.color {
            Color::Auto => {}
            Color::Always => anstream::ColorChoice::Always.write_global(),
            Color::Never => anstream::ColorChoice::Never.write_global(),
        }
        let usage = |code, headline: String, next: &str| Diagnostic::new(code, headline, next);
        let here = std::env::current_dir().map_err(|error| {
            usage(
                Code::NoFolder,
                format!("the folder one is in cannot be read: {error}"),
                "change to a folder that is there",
            )
        })?;
        let folder = options.start.as_ref().map_or_else(|| here.clone(), |folder| here.join(folder));
        if !folder.is_dir() {
            let headline = format!("there is no folder {}", folder.display());
            return Err(usage(Code::NoFolder, headline, "name a folder that is there, or make it first"));
        }
        let folder = std::fs::canonicalize(&folder).unwrap_or(folder);
        let cache = options.cache.as_ref().map(|cache| here.join(cache)).or_else(default_cache).ok_or_else(|| {
            let headline = "neither YOSTEL_CACHE nor HOME says where the cache should be".to_owned();
            usage(Code::NoCacheFolder, headline, "yostel --cache FOLDER …, or set YOSTEL_CACHE")
        })?;
        let now = clock()?;
        let seconds = |name: &str, default: Duration| match std::env::var(name) {
            Err(_) => Ok(default),
            Ok(text) => match text.parse() {
                Ok(seconds @ 1..=MOST_SECONDS) => Ok(Duration::from_secs(seconds)),
                _ => {
                    let headline =
                        format!("{name} is `{text}`, which is not a number of seconds from 1 to {MOST_SECONDS}");
                    Err(usage(Code::BadPatience, headline, &format!("unset {name}, or set it to a number of seconds")))
                }
            },
        };
        let patience = Patience {
            idle: seconds("YOSTEL_IDLE_SECONDS", Patience::default().idle)?,
            total: seconds("YOSTEL_TOTAL_SECONDS", Patience::default().total)?,
            unwanted: Arc::default(),
            stop: signals::flag(),
        };
        let given = std::env::var("YOSTEL_CREDENTIALS").ok();
        let credentials = Arc::new(StoredCredentials::new(given, credentials_file(), patience.clone()));
        let tool = Version::parse(env!("CARGO_PKG_VERSION"), &Order::Semver).expect("our own version is one");
        let show =
            !options.quiet && !options.no_progress && options.format == Format::Text && std::io::stderr().is_terminal();
        let says = match options.format {
            _ if options.quiet => Says::Nothing,
            Format::Text => Says::All,
            Format::Json | Format::Sarif | Format::Junit | Format::Markdown | Format::Csv => Says::Waiting,
        };
        let progress = TerminalProgress::new(show, says, patience.stop.clone());
        Ok(Self {
            progress,
            folder,
            settings: Settings {
                cache,
                now,
                platform: current_platform(),
                tool,
                patience,
                credentials,
                offline: false,
                sources: Arc::new(RealSources),
                files: Arc::new(DiskFiles),
                journal: Arc::new(Journal::of(typed_command())),
            },
            project: options.project.clone(),
            format: options.format,
            quiet: options.quiet,
        })
    }

    /// Asks no server from here on: what the cache has of them is all there is.
    pub(crate) fn without_servers(mut self, offline: bool) -> Self {
        self.settings.offline = offline;
        self
    }

    /// What every flow works with.
    pub(crate) fn context(&self) -> Context<'_> {
        Context::new(&self.settings, &self.progress)
    }

    /// Reads the project here or above.
    pub(crate) fn project(&self) -> Result<LoadedProject, FlowError> {
        self.at_project(load_project(&self.folder, &self.settings)?)
    }

    /// Edits the manifests here or above; anew, when somebody else changed them meanwhile.
    pub(crate) fn edit<T>(&self, edit: impl Fn(&LoadedProject) -> Result<T, FlowError>) -> Result<T, FlowError> {
        for _ in 0..MOST_EDITS {
            match edit(&self.manifests()?) {
                Err(FlowError::Project(ProjectError::ChangedMeanwhile(_))) => {}
                done => return done,
            }
        }
        edit(&self.manifests()?)
    }

    /// Reads the manifests here or above, to change them.
    pub(crate) fn manifests(&self) -> Result<LoadedProject, FlowError> {
        self.at_project(load_manifests(&self.folder, &self.settings)?)
    }

    fn at_project(&self, project: LoadedProject) -> Result<LoadedProject, FlowError> {
        match &self.project {
            Some(name) => Ok(project.at_project(name)?),
            None => Ok(project),
        }
    }

    /// Tells whether the answer is for a program.
    pub(crate) fn json(&self) -> bool {
        self.format == Format::Json
    }

    /// From where the person reads who called.
    pub(crate) fn viewpoint(&self) -> Viewpoint<'_> {
        Viewpoint { folder: &self.folder, cache: &self.settings.cache, now: self.settings.now, in_full: self.json() }
    }

    /// Shortens a path for people: relative to where they are, when it is below.
    pub(crate) fn show(&self, path: &Path) -> String {
        self.viewpoint().show(path)
    }
}

/// Returns the time: that of the machine, or that of whoever builds something for the second time.
fn clock() -> Result<Timestamp, Diagnostic> {
    let usage = |code, headline: String, next: &str| Diagnostic::new(code, headline, next);
    match std::env::var("SOURCE_DATE_EPOCH") {
        Err(_) => Timestamp::try_from(SystemTime::now()).map_err(|error| {
            let headline = format!("the clock of this machine cannot be right: {error}");
            usage(Code::BadClock, headline, "set the clock, or set SOURCE_DATE_EPOCH to seconds since 1970")
        }),
        Ok(text) => text.parse().ok().and_then(|seconds| Timestamp::from_second(seconds).ok()).ok_or_else(|| {
            let headline = format!("SOURCE_DATE_EPOCH is `{text}`, which is not a number of seconds");
            usage(Code::BadEpoch, headline, "unset SOURCE_DATE_EPOCH, or set it to seconds since 1970")
        }),
    }
}

/// Returns the file with what shows servers who asks.
pub(crate) fn credentials_file() -> Option<PathBuf> {
    let base = absolute("XDG_CONFIG_HOME").or_else(|| {
        let home = absolute("HOME")?;
        Some(home.join(if cfg!(target_os = "macos") { "Library/Application Support" } else { ".config" }))
    })?;
    Some(base.join("yostel/credentials.toml"))
}

/// Returns a folder that the environment names by its whole path.
fn absolute(name: &str) -> Option<PathBuf> {
    std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute())
}

/// Most characters of a command that are remembered.
const MOST_TYPED: usize = 400;

/// Returns what was typed after the program's name.
pub(crate) fn typed_command() -> String {
    let words: Vec<String> = std::env::args_os().skip(1).map(|word| shell_word(&word.to_string_lossy())).collect();
    words.join(" ").chars().take(MOST_TYPED).collect()
}

fn default_cache() -> Option<PathBuf> {
    if let Some(base) = absolute("XDG_CACHE_HOME") {
        return Some(base.join("yostel"));
    }
    let home = absolute("HOME")?;
    let base = if cfg!(target_os = "macos") { "Library/Caches" } else { ".cache" };
    Some(home.join(base).join("yostel"))
}
