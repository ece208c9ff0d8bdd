//! Makes a large project for whole-process timings: a registry of many packages, and a locked project that needs them.
//!
//! Usage: `cargo run --release -p yostel-flows --example large_project -- FOLDER [PACKAGES] [FILES] [SEED] [SIZES]`
//! FOLDER must be empty or not there yet; 300 packages, 20000 files and seed 1 when left out. SIZES is `even`, any size up
//! to 25 KB as likely as another, or `uneven`, log-normal as files of source trees are: half of them below 3 KB, and few of
//! hundreds. Of both, the mean is some 13 KB. The same seed makes the same bytes.

#![allow(clippy::disallowed_methods, reason = "worlds are set up and looked at by hand")]
#![allow(
    clippy::unwrap_used,
    clippy::exit,
    clippy::disallowed_macros,
    reason = "a tool for benches fails by panicking"
)]

use std::fs;
use std::path::PathBuf;

use jiff::Timestamp;
use yostel_flows::{
    Context, Keep, LockRequest, PublishRequest, RegistryTarget, Settings, Silent, create_registry, current_platform,
    load_project, lock, publish,
};
use yostel_versions::{Order, Version};

/// A small generator of numbers (xorshift, Marsaglia 2003): the standard library has none, and this one needs no taste.
struct Random(u64);

impl Random {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % limit
    }

    /// A number between 0 and 1, neither of them.
    #[allow(clippy::cast_precision_loss, reason = "32 bits are exact")]
    fn part(&mut self) -> f64 {
        (self.below(u64::from(u32::MAX)) as f64 + 0.5) / f64::from(u32::MAX)
    }

    /// Lines of 20 bytes whose logarithm is normal, with a median of 150 (Box and Muller 1958).
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "some thousands at most")]
    fn uneven_lines(&mut self) -> u64 {
        let normal = (-2.0 * self.part().ln()).sqrt() * (std::f64::consts::TAU * self.part()).cos();
        (150.0 * (1.71 * normal).exp()).ceil() as u64
    }
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let Some(folder) = arguments.first() else {
        eprintln!("usage: large_project FOLDER [PACKAGES] [FILES] [SEED] [SIZES]");
        std::process::exit(2);
    };
    let number = |at: usize, default: u64| arguments.get(at).map_or(default, |text| text.parse().unwrap());
    let (packages, files, mut random) = (number(1, 300), number(2, 20_000), Random(number(3, 1).max(1)));
    let is_uneven = match arguments.get(4).map_or("even", String::as_str) {
        "even" => false,
        "uneven" => true,
        other => panic!("sizes are even or uneven, not {other}"),
    };
    let root = PathBuf::from(folder);
    let settings = Settings {
        cache: root.join("cache"),
        now: Timestamp::UNIX_EPOCH,
        platform: current_platform(),
        tool: Version::parse("0.1.0", &Order::Semver).unwrap(),
        patience: yostel_flows::Patience::default(),
        credentials: std::sync::Arc::new(yostel_sources::NoCredentials),
        offline: false,
        sources: std::sync::Arc::new(yostel_flows::RealSources),
        files: std::sync::Arc::new(yostel_flows::DiskFiles),
        journal: std::sync::Arc::default(),
    };
    let station = RegistryTarget::Folder(root.join("station"));
    create_registry(&station, "station", &settings).unwrap();
    let made = root.join("made");
    for package in 0..packages {
        let _ = fs::remove_dir_all(&made);
        let mut needs: Vec<u64> = (0..random.below(4)).map(|_| package + 1 + random.below(20)).collect();
        needs.retain(|need| *need < packages);
        needs.sort_unstable();
        needs.dedup();
        let needs: String = needs.iter().map(|need| format!("p{need} = \"^1\"\n")).collect();
        let manifest = format!("[project]\nname = \"p{package}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}");
        fs::create_dir_all(&made).unwrap();
        fs::write(made.join("yostel.toml"), manifest).unwrap();
        // The manifest is a file too.
        for file in 1..files / packages {
            let path = made.join(format!("part{}/unit{}/file{file}.txt", file % 3, file % 7));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            let lines = if is_uneven { random.uneven_lines() } else { 20 + random.below(1320) };
            let text: String = (0..lines).map(|_| format!("{:016x} {}\n", random.below(u64::MAX), file)).collect();
            fs::write(path, text).unwrap();
        }
        let project = load_project(&made, &settings).unwrap();
        let request = PublishRequest { untried: true, ..PublishRequest::default() };
        publish(&project, &station, &request, &Context::new(&settings, &Silent)).unwrap();
    }
    let _ = fs::remove_dir_all(&made);
    let console = root.join("console");
    fs::create_dir_all(&console).unwrap();
    let needs: String = (0..packages).map(|package| format!("p{package} = \"^1\"\n")).collect();
    let manifest =
        format!("[project]\nname = \"console\"\n[needs.run]\n{needs}[sources.station]\nfolder = \"../station\"\n");
    fs::write(console.join("yostel.toml"), manifest).unwrap();
    let project = load_project(&console.canonicalize().unwrap(), &settings).unwrap();
    let report = lock(
        &project,
        LockRequest { keep: Keep::Nothing, ..LockRequest::default() },
        &Context::new(&settings, &Silent),
    )
    .unwrap();
    println!("{} packages locked in {}", report.packages, report.path.display());
}
