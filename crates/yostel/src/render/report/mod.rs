//! A page to hand round: one HTML file that asks nobody for anything. Its template, style and script are in `templates/`.

mod plots;

use std::collections::{BTreeMap, BTreeSet};

use askama::Template;
use yostel_answers::answers::findings::FindingTold;
use yostel_answers::answers::parts::OriginTold;
use yostel_answers::answers::report::{ReportAnswer, ReportedPackageTold};
use yostel_findings::Rating;

use self::plots::Plot;
use super::pictures::{notes, svg, title};
use super::{commit_of, day_of, size};
use crate::sanitise::sanitise;

/// What says near the beginning of a file that it is one of ours.
pub(crate) const MARK: &str = "<!-- made by yostel report -->";

const SCRIPT: &str = include_str!("../../../templates/report.js");

/// Of how many a way is told whole.
const MOST_OF_A_WAY: usize = 8;

/// How many packages of a finding lead into the graph.
const MOST_SHOWN: usize = 6;

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    name: String,
    made: &'a str,
    tool: &'static str,
    seal: &'a str,
    style: String,
    script: &'static str,
    script_digest: String,
    summary: Vec<String>,
    severities: Vec<&'static str>,
    kinds: BTreeSet<&'static str>,
    findings: Vec<FindingRow>,
    graph_title: String,
    graph_notes: Vec<String>,
    graph: String,
    legend: String,
    packages: Vec<PackageRow>,
    drift_notes: Vec<String>,
    plots: Vec<Plot>,
    points: Vec<PointRow>,
}

struct FindingRow {
    severity: &'static str,
    kind: &'static str,
    says: String,
    notes: Vec<String>,
    way: String,
    remedy: String,
    shown: Vec<Shown>,
}

/// A package that the graph shows.
struct Shown {
    number: usize,
    name: String,
}

struct PackageRow {
    direct: bool,
    number: Option<usize>,
    package: String,
    version: String,
    newest: String,
    published: String,
    purposes: String,
    licence: String,
    from: String,
    askers: usize,
    findings: usize,
    bytes: u64,
    size: String,
}

struct PointRow {
    date: String,
    commit: String,
    packages: usize,
    years: String,
    releases: usize,
    lines: usize,
    advisories: usize,
}

/// Writes the page.
pub(crate) fn document(answer: &ReportAnswer) -> String {
    let nodes = Nodes::of(answer);
    let found = found_of(answer);
    let (graph, legend) = svg::figures(&answer.graph);
    let version = answer.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let severities: Vec<&str> = Rating::ALL.iter().rev().map(|rating| rating.word()).collect();
    let page = Page {
        name: sanitise(&format!("{}{version}", answer.project)),
        made: day_of(&answer.made),
        tool: env!("CARGO_PKG_VERSION"),
        seal: &answer.seal,
        style: format!("{}{}", include_str!("../../../templates/report.css"), svg::STYLE),
        script: SCRIPT,
        script_digest: base64(&digest_of(SCRIPT)),
        summary: answer.summary.iter().map(|sentence| sanitise(sentence)).collect(),
        severities: severities
            .into_iter()
            .filter(|word| answer.findings.iter().any(|finding| finding.severity == *word))
            .collect(),
        kinds: answer.findings.iter().map(|finding| finding.kind).collect(),
        findings: answer.findings.iter().map(|finding| finding_row(finding, &nodes)).collect(),
        graph_title: sanitise(&title(&answer.graph)),
        graph_notes: notes(&answer.graph).iter().map(|note| sanitise(note)).collect(),
        graph,
        legend,
        packages: answer.packages.iter().map(|package| package_row(package, &found, &nodes)).collect(),
        drift_notes: drift_notes(answer),
        plots: plots::plots(&answer.drift),
        points: answer.drift.points.iter().map(point_row).collect(),
    };
    page.render().expect("a text takes whatever is written") + "\n"
}

/// By package and version, which node of the graph shows it.
struct Nodes(BTreeMap<(String, Option<String>), usize>);

impl Nodes {
    fn of(answer: &ReportAnswer) -> Self {
        let mut nodes = BTreeMap::new();
        for (number, node) in answer.graph.nodes.iter().enumerate() {
            if let Some(name) = &node.name {
                nodes.insert((name.clone(), node.version.clone()), number);
            }
            for package in &node.packages {
                nodes.insert((package.package.clone(), package.version.clone()), number);
            }
        }
        Self(nodes)
    }

    fn number(&self, package: &str, version: Option<&str>) -> Option<usize> {
        let exact = self.0.get(&(package.to_owned(), version.map(str::to_owned))).copied();
        // Where all versions are meant, the first will do.
        exact.or_else(|| {
            let mut all = self.0.range((package.to_owned(), None)..);
            all.next().filter(|((name, _), _)| version.is_none() && name == package).map(|(_, number)| *number)
        })
    }
}

/// By package, and version where one is meant, how much was found about it.
type Found<'a> = BTreeMap<(&'a str, Option<&'a str>), usize>;

fn found_of(answer: &ReportAnswer) -> Found<'_> {
    let mut found = Found::new();
    for package in answer.findings.iter().flat_map(|finding| &finding.packages) {
        *found.entry((package.package.as_str(), package.version.as_deref())).or_default() += 1;
    }
    found
}

/// Says by which way a package came; of a long one, how it begins and ends.
fn way_words(way: &[String]) -> String {
    match way {
        [first, second, .., last] if way.len() > MOST_OF_A_WAY => {
            format!("{first}, {second}, {} more, {last}", way.len() - 3)
        }
        _ => way.join(", "),
    }
}

fn finding_row(finding: &FindingTold, nodes: &Nodes) -> FindingRow {
    let shown = finding.packages.iter().take(MOST_SHOWN).filter_map(|package| {
        let number = nodes.number(&package.package, package.version.as_deref())?;
        Some(Shown { number, name: sanitise(&package.package) })
    });
    FindingRow {
        severity: finding.severity,
        kind: finding.kind,
        says: sanitise(&finding.says),
        notes: finding.notes.iter().map(|note| sanitise(note)).collect(),
        way: sanitise(&way_words(&finding.way)),
        remedy: finding.remedy.as_ref().map(|remedy| sanitise(&remedy.says)).unwrap_or_default(),
        shown: shown.collect(),
    }
}

fn package_row(one: &ReportedPackageTold, found: &Found<'_>, nodes: &Nodes) -> PackageRow {
    let found = |version: Option<&str>| found.get(&(one.package.as_str(), version)).copied().unwrap_or(0);
    let text = |text: &Option<String>| text.as_deref().map(sanitise).unwrap_or_default();
    PackageRow {
        direct: one.direct,
        number: nodes.number(&one.package, Some(&one.version)).or_else(|| nodes.number(&one.package, None)),
        package: sanitise(&one.package),
        version: sanitise(&one.version),
        newest: text(&one.newest),
        published: one.published.as_deref().map(day_of).unwrap_or_default().to_owned(),
        purposes: one.purposes.join(", "),
        licence: text(&one.licence),
        from: sanitise(&origin_words(&one.from)),
        askers: one.askers,
        findings: found(None) + found(Some(&one.version)),
        bytes: one.bytes.unwrap_or(0),
        size: one.bytes.map(size).unwrap_or_default(),
    }
}

/// Says where a package comes from in a word or two; an address, in which there may be a password, is not for everybody.
fn origin_words(from: &OriginTold) -> String {
    match from {
        OriginTold::Source(name) => name.clone(),
        OriginTold::Git { commit, .. } => format!("git {}", commit.get(..12).unwrap_or(commit)),
        OriginTold::Archive { archive } => format!("archive {}", archive.rsplit('/').next().unwrap_or(archive)),
        OriginTold::Path { path } => format!("path {path}"),
        OriginTold::Project { project } => format!("project {project}"),
    }
}

fn point_row(point: &yostel_answers::answers::drift::DriftPointTold) -> PointRow {
    PointRow {
        date: day_of(&point.at).to_owned(),
        commit: commit_of(point.commit.as_deref()).to_owned(),
        packages: point.packages,
        years: format!("{:.1}", point.lag.years),
        releases: point.lag.releases,
        lines: point.lag.lines,
        advisories: point.lag.advisories,
    }
}

fn drift_notes(answer: &ReportAnswer) -> Vec<String> {
    let drift = &answer.drift;
    let mut notes = vec![
        "Years, releases, compatible lines and advisories between what was locked and the newest there was, summed over \
         all packages"
            .to_owned(),
    ];
    if let Some(why) = &drift.no_history {
        notes.push(format!("There is no history to tell of: {}", sanitise(why)));
    }
    if drift.shallow {
        notes.push("Only a part of git's history was there".to_owned());
    }
    notes
}

fn digest_of(text: &str) -> [u8; 32] {
    yostel_documents::Sha256::of(text.as_bytes())
}

/// Writes bytes in Base64 (RFC 4648 §4), as policies of pages name digests.
fn base64(bytes: &[u8]) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut text = String::new();
    for three in bytes.chunks(3) {
        let bits = three.iter().fold(0_u32, |bits, byte| bits << 8 | u32::from(*byte)) << (8 * (3 - three.len()));
        for at in 0..4 {
            let letter = LETTERS[(bits >> (18 - 6 * at) & 63) as usize];
            text.push(if at <= three.len() { char::from(letter) } else { '=' });
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::base64;

    #[test]
    fn base64_is_that_of_the_standard() {
        // RFC 4648 §10.
        let vectors =
            [("", ""), ("f", "Zg=="), ("fo", "Zm8="), ("foo", "Zm9v"), ("foob", "Zm9vYg=="), ("foobar", "Zm9vYmFy")];
        for (plain, encoded) in vectors {
            assert_eq!(base64(plain.as_bytes()), encoded);
        }
    }
}
