//! What people read, to the letter.

use jiff::Timestamp;
use yostel_answers::{Code, Place};

use super::*;

fn plain(text: &str) -> String {
    anstream::adapter::strip_str(&crate::sanitise::shown(text)).to_string()
}

#[test]
fn a_diagnostic_marks_its_place_and_ends_with_what_to_do() {
    let text = "[needs.run]\n\twörd = \"2.1\"\n";
    let at = text.find("2.1").unwrap();
    let told = Diagnostic::new(Code::Constraint, "`2.1` is not a constraint", "write \"=2.1\"")
        .or("write \"^2.1\"")
        .note("a note")
        .at(Place::of("yostel.toml", text, &(at..at + 3)));
    assert_eq!(
        plain(&diagnostic(&told)),
        "error: `2.1` is not a constraint\n\
         \x20 at yostel.toml:2:10\n\
         \x202 |  wörd = \"2.1\"\n\
         \x20  |          ^^^\n\
         \x20 a note\n\
         next: write \"=2.1\"\n\
         \x20 or: write \"^2.1\"\n"
    );
}

#[test]
fn what_comes_from_outside_cannot_steer_the_terminal() {
    let told = Diagnostic::new(Code::Name, "a\u{1b}[2Jb", "c").note("\u{7}");
    assert!(!plain(&diagnostic(&told)).contains(['\u{1b}', '\u{7}']));
    let mut columns = Columns::new([Head::words("one")]);
    columns.row(["x\u{1b}]0;title\u{7}".to_owned()]);
    assert!(!columns.finish().contains(['\u{1b}', '\u{7}']));
}

#[test]
fn the_middle_of_an_endless_path_is_left_out_and_of_what_to_do_nothing() {
    let path = format!("/top/{}bottom", "deeper/".repeat(5000));
    let told = Diagnostic::new(Code::CannotRead, format!("cannot read {path}"), format!("rm {path}"))
        .note(format!("{path} is there"));
    let text = plain(&diagnostic(&told));
    let lines: Vec<&str> = text.lines().collect();
    assert!(lines[0].starts_with("error: cannot read /top/deeper/") && lines[0].ends_with("deeper/bottom"), "{text}");
    assert!(lines[..2].iter().all(|line| line.contains('…') && line.chars().count() < 300), "{text}");
    assert_eq!(lines[2], format!("next: rm {path}"));
}

#[test]
fn columns_line_up_without_trailing_blanks() {
    let mut columns = Columns::new([Head::package("package"), Head::plain("version")]);
    columns.row(["gust".to_owned(), "1.0.0".to_owned()]);
    columns.row(["cable-tension".to_owned(), "3".to_owned()]);
    assert_eq!(plain(&columns.finish()), "  PACKAGE        VERSION\n  gust           1.0.0\n  cable-tension  3\n");
}

fn of_cache(width: usize) -> String {
    let heads = [
        Head::package("package"),
        Head::number("packed").spare(),
        Head::plain("brought by").spare(),
        Head::words("used by"),
    ];
    let mut columns = Columns::within(width, heads);
    for (package, packed) in [("cable-tension", "1.5 KiB"), ("gust", "20 KiB")] {
        let by = "console, ropeway/console";
        columns.row([package, packed, "console", by].map(str::to_owned));
    }
    plain(&columns.finish())
}

#[test]
fn on_a_narrow_terminal_words_wrap_first_and_then_columns_are_left_out_and_that_is_said() {
    let wide = "  PACKAGE         PACKED  BROUGHT BY  USED BY\n  \
                cable-tension  1.5 KiB  console     console, ropeway/console\n  \
                gust            20 KiB  console     console, ropeway/console\n";
    assert_eq!(of_cache(400), wide);
    let wrapped = of_cache(60);
    assert!(wrapped.contains("  cable-tension  1.5 KiB  console     console,\n"), "{wrapped}");
    let fewer = of_cache(46);
    assert!(fewer.starts_with("  PACKAGE         PACKED  USED BY\n"), "{fewer}");
    assert!(fewer.contains("  no room here for BROUGHT BY; a wider\n  terminal has it, and so has"), "{fewer}");
    let fewest = of_cache(36);
    assert!(fewest.starts_with("  PACKAGE        USED BY\n"), "{fewest}");
    assert!(fewest.replace("\n  ", " ").contains("no room here for PACKED, BROUGHT BY;"), "{fewest}");
    for (width, text) in [(60, &wrapped), (46, &fewer), (36, &fewest)] {
        let longest = text.lines().map(str::len).max();
        assert!(longest <= Some(width) && text.contains("cable-tension") && text.contains("gust"), "{text}");
    }
    // What is longer than any terminal wraps, and nothing of it is lost.
    let mut columns = Columns::within(60, [Head::package("package"), Head::place("file"), Head::words("remarks")]);
    let long = "level/".repeat(20) + "end";
    columns.row([long.clone(), "f".repeat(35), "a few words".to_owned()]);
    let text = plain(&columns.finish());
    assert!(text.lines().all(|line| line.len() <= 60), "{text}");
    let cell: String = text.lines().skip(1).map(|line| line.split_whitespace().next().unwrap_or_default()).collect();
    assert_eq!(cell, long, "{text}");
}

#[test]
fn a_column_is_painted_by_what_it_holds_and_its_heading_is_quiet() {
    let heads = [Head::package("package"), Head::number("size"), Head::place("file"), Head::change("what")];
    let mut columns = Columns::within(400, heads);
    columns.row(["gust", "1", "bin/gust", "changed"].map(str::to_owned));
    columns.row(["bell", "10", "", "changed"].map(str::to_owned));
    let text = columns.finish();
    let painted =
        [(Role::Quiet, "PACKAGE"), (Role::Package, "gust"), (Role::Place, "bin/gust"), (Role::Changed, "changed")];
    for (role, cell) in painted {
        assert!(text.contains(&paint(role, cell)), "{cell}: {text:?}");
    }
    assert!(text.contains("     1  ") && !text.contains(&paint(Role::Place, "")), "{text:?}");
}

#[test]
fn notes_wrap_at_words_and_commands_are_never_broken() {
    let command = "yostel add cable-tension '>=2.1, <3' --for test";
    let told = Diagnostic::new(Code::Constraint, "cable-tension and gust-model cannot be met together by any set", "x")
        .note(yostel_answers::Note::at("yostel.toml", 11, "ropeway/console needs cable-tension, which leaves nothing"))
        .or(Suggestion::run(command, "which ends it, as nothing else does"));
    let text = plain(&diagnostic_within(40, &told));
    let expected = "error: cable-tension and gust-model\n       cannot be met together by any set\n  \
                    yostel.toml:11: ropeway/console\n    needs cable-tension, which leaves\n    nothing\n\
                    next: x\n  or: yostel add cable-tension '>=2.1, <3' --for test,\n      \
                    which ends it, as nothing else\n      does\n";
    assert_eq!(text, expected);
    assert!(diagnostic(&told).contains(&paint(Role::Place, "yostel.toml:11")));
}

#[test]
fn sizes_counts_and_ages_have_units() {
    assert_eq!(
        [size(0), size(1), size(1023), size(1024), size(5 << 20)],
        ["0 bytes", "1 byte", "1023 bytes", "1.0 KiB", "5.0 MiB"]
    );
    assert_eq!([count(1, "file"), count(2, "file"), count(0, "copy")], ["1 file", "2 files", "0 copies"]);
    let at = |days: i64| Timestamp::from_second(days * 86_400).unwrap();
    let ages: Vec<String> = [0, 1, 59, 400, 800].map(|days| age(at(0), at(days))).into();
    assert_eq!(ages, ["today", "1 day", "59 days", "13 months", "2 years"]);
    assert_eq!(age(at(5), at(0)), "today", "a clock that was wrong is no reason to fail");
    assert_eq!([lag(at(0), at(0)), lag(at(0), at(1)), lag(at(5), at(0))], ["hours", "1 day", "hours"]);
    let texts = |n: usize| ["a", "b", "c"][..n].iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(
        [join(&texts(0)), join(&texts(1)), join(&texts(2)), join(&texts(3))],
        ["", "a", "a and b", "a, b and c"]
    );
}
