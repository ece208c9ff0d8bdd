//! Findings as JUnit XML, the form in which build servers take what was tested: a suite for each kind, a case for each
//! finding.

use yostel_answers::answers::findings::FindingTold;
use yostel_findings::FindingGroup;

use crate::render::xml::escaped;

/// What every kind's suite is called that has nothing to ask for.
const ALARMS: &str = "alarms";

/// Writes the document. A suite in which nothing was found has one case, which passed: that it was looked for can be seen.
pub(crate) fn document(findings: &[FindingTold], groups: &[FindingGroup]) -> String {
    let suites = std::iter::once(None).chain(groups.iter().copied().map(Some));
    let suites: Vec<(&str, Vec<&FindingTold>)> = suites
        .map(|group| {
            let of_group = findings.iter().filter(|finding| finding.of.group() == group);
            (group.map_or(ALARMS, FindingGroup::word), of_group.collect())
        })
        .collect();
    let cases = |of: &[&FindingTold]| of.len().max(1);
    let tests: usize = suites.iter().map(|(_, of)| cases(of)).sum();
    let all: Vec<&FindingTold> = findings.iter().collect();
    let (failures, skipped) = (failures(&all), skipped(&all));
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
         <testsuites name=\"yostel audit\" tests=\"{tests}\" failures=\"{failures}\" errors=\"0\" skipped=\"{skipped}\">\n"
    );
    for (name, of) in &suites {
        let (failures, skipped) = (self::failures(of), self::skipped(of));
        text.push_str(&format!(
            "  <testsuite name=\"{name}\" tests=\"{}\" failures=\"{failures}\" errors=\"0\" skipped=\"{skipped}\">\n",
            cases(of)
        ));
        if of.is_empty() {
            text.push_str(&format!("    <testcase classname=\"yostel.{name}\" name=\"nothing found\"/>\n"));
        }
        of.iter().for_each(|finding| text.push_str(&case(name, finding)));
        text.push_str("  </testsuite>\n");
    }
    text + "</testsuites>\n"
}

fn known(finding: &FindingTold) -> Option<String> {
    let known = finding.known.as_ref().filter(|known| !known.ended)?;
    let why = known.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    Some(format!("known until {}{why}", known.until))
}

fn failures(findings: &[&FindingTold]) -> usize {
    findings.iter().filter(|finding| finding.fails).count()
}

fn skipped(findings: &[&FindingTold]) -> usize {
    findings.iter().filter(|finding| known(finding).is_some() && !finding.fails).count()
}

fn case(suite: &str, finding: &FindingTold) -> String {
    let begin = format!("    <testcase classname=\"yostel.{suite}\" name=\"{}\"", escaped(&finding.id));
    let said = escaped(&finding.says);
    let notes: String = finding.notes.iter().map(|note| format!("{}\n", escaped(note))).collect();
    let end = finding.remedy.as_ref().map(|remedy| format!("to end it, {}\n", escaped(&remedy.says)));
    let end = end.unwrap_or_default();
    let (kind, severity) = (finding.kind, finding.severity);
    match known(finding) {
        _ if finding.fails => format!(
            "{begin}>\n      <failure type=\"{kind}\" message=\"{said}\">severity: {severity}\n{notes}{end}</failure>\n    \
             </testcase>\n"
        ),
        Some(known) => format!("{begin}>\n      <skipped message=\"{}\"/>\n    </testcase>\n", escaped(&known)),
        None => format!("{begin}>\n      <system-out>{said}\n{notes}{end}</system-out>\n    </testcase>\n"),
    }
}
