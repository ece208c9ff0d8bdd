//! `report`: a page to hand round, whole by itself, in which nothing that a package says is more than text.
//! The accident this prevents: a page that is sent to somebody, and runs what an advisory says.

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::small_world;

fn locked() -> Sandbox {
    let sandbox = small_world();
    let advisory = r#"{"schema_version": "1.7.0", "id": "X-1", "modified": "2026-01-01T00:00:00Z",
        "summary": "</td></script><script>alert(1)</script><img src=x onerror=alert(2)>\u0007\u202e{{ name }}",
        "severity": [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}],
        "affected": [{"package": {"ecosystem": "station", "name": "unit"},
        "ranges": [{"type": "SEMVER", "events": [{"introduced": "0"}, {"fixed": "2.0.0"}]}]}]}"#;
    sandbox.write("station/advisories/X-1.json", advisory);
    sandbox.run("console", "lock").expect(0);
    sandbox
}

#[test]
fn a_page_says_what_matters_and_is_whole_by_itself() {
    let sandbox = locked();
    let said = sandbox.run("console", "report page.html").expect(0).stdout;
    assert_eq!(
        said,
        "Wrote page.html.\n  3 packages are locked, 2 of them needed directly.\n  \
         1 advisory affects unit, rated critical.\n  \
         2 packages have newer releases; 0 can move to the newest now.\n"
    );
    let page = sandbox.read("console/page.html");
    for part in ["<td class=\"critical\">critical</td>", "gust 2.1.0", "show unit", "There is no history to tell of"] {
        assert!(page.contains(part), "{part}: {page}");
    }
    // Nothing is fetched, and no script but the page's own may run.
    for (attribute, may) in [("src=", ""), ("href=", "#"), ("url(", "#"), ("@import", "")] {
        for (at, _) in page.match_indices(attribute) {
            let value = page[at + attribute.len()..].trim_start_matches('"');
            let is_text = page[..at].ends_with("&lt;img ") || page[..at].ends_with("&#60;img ");
            assert!(
                is_text || (!may.is_empty() && value.starts_with(may)),
                "{attribute}{}",
                value.chars().take(20).collect::<String>()
            );
        }
    }
    assert!(page.contains("default-src 'none'") && page.contains("script-src 'sha256-"));
    assert_eq!(page.matches("<script>").count(), 1);
    // The same whenever it is written of the same.
    assert!(sandbox.run("console", "report").expect(0).stdout == page);
    // It is handed round: where it was made is nobody's matter.
    assert!(!page.contains(&sandbox.path("").display().to_string()) && !page.contains("[SANDBOX]"));
    let answer: Value = serde_json::from_str(&sandbox.run("console", "report --format json").expect(0).stdout).unwrap();
    assert_eq!(answer["findings"][0]["severity"], "critical");
    assert_eq!(answer["packages"].as_array().unwrap().len(), 3);
}

#[test]
fn what_an_advisory_says_is_text_on_the_page() {
    let sandbox = locked();
    let page = sandbox.run("console", "report").expect(0).stdout;
    assert!(
        page.contains("&lt;/script&gt;&lt;script&gt;alert(1)")
            || page.contains("&#60;/script&#62;&#60;script&#62;alert(1)"),
        "{page}"
    );
    for bad in ["<script>alert", "<img", "\u{7}", "\u{202e}"] {
        assert!(!page.contains(bad), "{bad:?}: {page}");
    }
    assert!(page.contains("{{ name }}"), "{page}");
}

#[test]
fn a_page_is_not_written_over_anothers_and_not_without_its_sources() {
    let sandbox = locked();
    sandbox.write("console/index.html", "<!DOCTYPE html>\n<html lang=\"en\">\n<p>made by yostel reporters</p>\n");
    let before = sandbox.read("console/index.html");
    let refused = sandbox.run("console", "report index.html").expect(2).stderr;
    assert!(
        refused.starts_with("error: index.html is there already, and this command did not write it in this form\n"),
        "{refused}"
    );
    assert_eq!(sandbox.read("console/index.html"), before);
    sandbox.run("console", "report page.html").expect(0);
    let page = sandbox.read("console/page.html");
    std::fs::rename(sandbox.path("station"), sandbox.path("away")).unwrap();
    sandbox.run("console", "report page.html").expect(5);
    assert_eq!(sandbox.read("console/page.html"), page);
    std::fs::rename(sandbox.path("away"), sandbox.path("station")).unwrap();
    sandbox.run("console", "report page.html").expect(0);
}
