//! Reading manifests with every problem and its place; editing without touching the rest.
//! The accident this prevents: a misspelt key that is silently ignored, an edit that eats a comment.

use proptest::prelude::*;

use super::*;

const WHOLE: &str = r#"# the console
[project]
name      = "ropeway/console"   # read aloud
version   = "0.4.0"
numbering = { order = "semver", breaks-at = 1 }
yostel    = ">=0.1"

[needs.run]
cable-tension = "^3.2"   # the sensor team
gust-model    = { accept = ">=2.1, <3" }

[needs.test]
rig-simulator = "^0.9"

[sources.station]
folder = "../station"
reserves = ["ropeway/*", "ice-sensor"]

[offers]
roles = ["wind-source"]
programs = ["bin"]
variables = { CPATH = "include" }
"#;

fn word(text: &str) -> Word {
    Word::parse(text).unwrap()
}

fn package(text: &str) -> PackageName {
    PackageName::parse(text).unwrap()
}

fn plain(text: &str) -> NeedForm {
    NeedForm::Constraint(accept(text))
}

fn accept(text: &str) -> ConstraintText {
    ConstraintText::parse(text).unwrap()
}

#[test]
fn a_whole_manifest_is_read() {
    let manifest = Manifest::parse(WHOLE).unwrap();
    assert_eq!(manifest.project.version.as_ref().unwrap().as_str(), "0.4.0");
    assert_eq!(manifest.project.numbering.breaks_at(), Some(1));
    let needs: Vec<String> = manifest.requirements().iter().map(|r| format!("{}: {r}", r.purpose)).collect();
    assert_eq!(
        needs,
        [
            "run: ropeway/console needs cable-tension ^3.2",
            "run: ropeway/console needs gust-model >=2.1, <3",
            "test: ropeway/console needs rig-simulator ^0.9"
        ]
    );
    let station = &manifest.sources[&word("station")];
    assert!(station.reserves[0].covers(&package("ropeway/x")) && !station.reserves[0].covers(&package("ropeway")));
    assert!(
        station.reserves[1].covers(&package("ice-sensor")) && !station.reserves[1].covers(&package("ice-sensor/x"))
    );
    assert_eq!(manifest.offers.programs, ["bin"]);
}

/// Each problem: a piece of the manifest, what it is replaced with, the headline, and the text its place marks.
#[test]
fn every_problem_names_its_place() {
    let cases = [
        ("[needs.run]", "[need.run]", "the manifest has no key `need`", "need"),
        ("licence", "", "", ""),
        ("yostel    =", "yostle    =", "[project] has no key `yostle`", "yostle"),
        ("folder =", "foldr =", "a source has no key `foldr`", "foldr"),
        (
            "\"0.4.0\"",
            "\"0.4\"",
            "`0.4` is not a version: Semantic Versioning wants exactly three numbers, like 1.4.2",
            "\"0.4\"",
        ),
        ("\"0.4.0\"", "4", "`version` should be a text in quotes, but it is a whole number", "4"),
        ("\"^3.2\"", "\"^3, 4.1\"", "`^3, 4.1` is not a constraint: a bare version can be read in two ways", "4.1"),
        ("\"^3.2\"", "\"~3.2\"", "`~3.2` is not a constraint: `~` means different things to different people", "~3.2"),
        (
            "\"^3.2\"",
            "3.2",
            "`cable-tension` should be a constraint in quotes, like \"^2.1\", but it is a number with a point",
            "3.2",
        ),
        (
            "cable-tension",
            "\"Cable Tension\"",
            "`Cable Tension` cannot be a name: names are lower-case, so that they mean the same on every file system",
            "\"Cable Tension\"",
        ),
        (
            "order = \"semver\"",
            "order = \"roman\"",
            "`order` cannot be `roman`: the orders are `semver` and `words`",
            "\"roman\"",
        ),
        (
            "breaks-at = 1",
            "breaks-at = 4",
            "`breaks-at` is 4, but semantic versions have three positions",
            "{ order = \"semver\", breaks-at = 4 }",
        ),
        (
            "breaks-at = 1",
            "breaks-at = -1",
            "`breaks-at` cannot be `-1`: it is a position, counted from 1; 0 = nothing ever breaks",
            "-1",
        ),
        (
            "programs = [\"bin\"]",
            "programs = \"bin\"",
            "`programs` should be a list of texts, like [\"one\", \"two\"], but it is a text",
            "\"bin\"",
        ),
        ("[\"bin\"]", "[\"../bin\"]", "`programs` cannot be `../bin`: it must not leave the package", "\"../bin\""),
        (
            "CPATH",
            "PATH",
            "`variables` cannot be `PATH`: programs are offered with `programs`, which puts their folder before PATH",
            "PATH",
        ),
        ("cable-tension", "\"ropeway/console\"", "ropeway/console needs itself", "\"ropeway/console\""),
        ("accept = ", "acept = ", "a need has no key `acept`", "acept"),
        ("folder = \"../station\"", "", "a source lacks `folder`", "station"),
        ("version   = \"0.4.0\"", "version   = \"0.4.0", "this is not TOML: invalid basic string, expected `\"`", ""),
    ];
    for (from, to, headline, marked) in cases {
        let text = WHOLE.replacen(from, to, 1);
        if text == WHOLE {
            continue;
        }
        let problems = Manifest::parse(&text).unwrap_err();
        let found = problems.iter().find(|p| p.to_string() == headline);
        let Some(found) = found else { panic!("{to}: {problems:?}") };
        if !marked.is_empty() {
            assert_eq!(&text[found.span.clone()], marked, "{to}");
        }
    }
}

#[test]
fn all_problems_are_told_at_once_in_the_order_of_the_text() {
    let text = WHOLE.replace("version   =", "versoin   =").replace("^3.2", "3.2").replace("folder", "dir");
    let headlines: Vec<String> = Manifest::parse(&text).unwrap_err().iter().map(|p| p.to_string()).collect();
    assert_eq!(headlines.len(), 4, "{headlines:#?}");
    assert!(
        headlines[0].contains("versoin") && headlines[1].contains("bare version") && headlines[3].contains("`dir`")
    );
}

#[test]
fn an_unknown_key_offers_the_nearest() {
    let problems = Manifest::parse("[project]\nname = 'x'\n[soruces.a]\nfolder = 'b'\n").unwrap_err();
    assert!(matches!(problems[0].kind, ManifestProblemKind::UnknownKey { near: Some("sources"), .. }));
    for (table, key) in [("force", "version"), ("admit", "version"), ("licence-exceptions", "licence")] {
        let entry = format!("gust = {{ {key} = '1.0.0', why = 'so', untli = 2027-01-01 }}");
        let text = format!("[project]\nname = 'x'\n[{table}]\n{entry}\n");
        let problems = Manifest::parse(&text).unwrap_err();
        assert!(
            matches!(problems[0].kind, ManifestProblemKind::UnknownKey { near: Some("until"), .. }),
            "{problems:?}"
        );
    }
}

#[test]
fn adding_keeps_comments_order_and_spacing() {
    let edit = add_need(WHOLE, &word("run"), &package("cable-tension"), &plain("^3.3")).unwrap();
    assert_eq!(edit.text, WHOLE.replace("^3.2", "^3.3"));
    assert_eq!(edit.before.as_deref(), Some("^3.2"));
    let edit = add_need(WHOLE, &word("run"), &package("gust-model"), &plain("^2")).unwrap();
    assert_eq!(edit.text, WHOLE.replace(">=2.1, <3", "^2"));
    let edit = add_need(WHOLE, &word("run"), &package("fog-lamp"), &plain("*")).unwrap();
    assert_eq!(edit.text, WHOLE.replace("gust-model    =", "fog-lamp = \"*\"\ngust-model    ="));
    let edit = add_need(WHOLE, &word("build"), &package("ropeway/tools"), &plain("^1")).unwrap();
    assert!(edit.text.contains("[needs.build]\n\"ropeway/tools\" = \"^1\"\n"), "{}", edit.text);
    assert_eq!(Manifest::parse(&edit.text).unwrap().requirements().len(), 4);
}

#[test]
fn an_unsorted_table_stays_as_its_author_ordered_it() {
    let text = "[project]\nname = 'x'\n[needs.run]\nzebra = '^1'\n# first\napple = '^1'\n";
    let edit = add_need(text, &word("run"), &package("mango"), &plain("^1")).unwrap();
    assert_eq!(edit.text, format!("{text}mango = \"^1\"\n"));
}

#[test]
fn the_first_need_brings_its_table_and_no_other() {
    let text = "[project]\nname = 'x'\n";
    let edit = add_need(text, &word("test"), &package("fog-lamp"), &plain("^1")).unwrap();
    assert_eq!(edit.text, format!("{text}\n[needs.test]\nfog-lamp = \"^1\"\n"));
}

#[test]
fn windows_line_endings_stay() {
    let text = WHOLE.replace('\n', "\r\n");
    let edit = add_need(&text, &word("run"), &package("fog-lamp"), &plain("^1")).unwrap();
    assert_eq!(edit.text.matches('\n').count(), edit.text.matches("\r\n").count());
    assert_eq!(remove_need(&edit.text, None, &package("fog-lamp")).unwrap().text, text);
}

#[test]
fn where_both_line_endings_are_used_no_line_changes_that_is_not_edited() {
    let lines = WHOLE.lines().count();
    for every in 2..5 {
        let ending = |at: usize| if at.is_multiple_of(every) { "\r\n" } else { "\n" };
        let mixed: String = WHOLE.lines().enumerate().map(|(at, line)| format!("{line}{}", ending(at))).collect();
        let edit = add_need(&mixed, &word("run"), &package("fog-lamp"), &plain("^1")).unwrap();
        let without: Vec<&str> = edit.text.split_inclusive('\n').filter(|line| !line.starts_with("fog-lamp")).collect();
        assert_eq!((without.concat(), edit.text.lines().count()), (mixed.clone(), lines + 1));
        assert_eq!(remove_need(&edit.text, None, &package("fog-lamp")).unwrap().text, mixed);
    }
    let unended = "[project]\r\nname = 'x'\r\n[needs.run]\r\na = '^1'";
    let edit = add_need(unended, &word("run"), &package("b"), &plain("^1")).unwrap();
    assert_eq!(edit.text, format!("{unended}\r\nb = \"^1\"\r\n"));
}

#[test]
fn what_was_removed_is_told_by_purpose_whatever_the_order_in_the_manifest() {
    let text =
        "[project]\nname = \"x\"\n[needs.test]\na = \"^1\"\n[needs.run]\na = \"^1\"\n[needs.build]\na = \"^1\"\n";
    assert_eq!(remove_need(text, None, &package("a")).unwrap().purposes, ["build", "run", "test"]);
}

/// In a plain text the wrong part is marked; where escapes make that impossible, or no part is wrong, all of it is.
#[test]
fn the_part_of_a_constraint_that_is_wrong_is_marked() {
    for (accept, marked) in [
        ("\">=1, 2\"", "2"),
        ("\">=1, \\u0032\"", "\">=1, \\u0032\""),
        ("\"\"", "\"\""),
        ("\"\\u0020\"", "\"\\u0020\""),
    ] {
        let text = format!("[project]\nname = \"x\"\n[needs.run]\na = {accept}\n");
        let problems = Manifest::parse(&text).unwrap_err();
        assert_eq!(&text[problems[0].span.clone()], marked, "{accept}");
    }
}

#[test]
fn removing_finds_the_need_wherever_it_is() {
    let edit = remove_need(WHOLE, None, &package("rig-simulator")).unwrap();
    assert_eq!((edit.before.as_deref(), &edit.purposes[..]), (Some("^0.9"), &["test".to_owned()][..]));
    assert_eq!(edit.text, WHOLE.replace("rig-simulator = \"^0.9\"\n", ""));
    let missing = remove_need(WHOLE, Some(&word("run")), &package("rig-simulator"));
    assert_eq!(missing, Err(EditError::NoSuchNeed(package("rig-simulator"))));
    assert_eq!(remove_need("[", None, &package("x")), Err(EditError::Unreadable));
}

proptest! {
    #[test]
    fn any_text_is_a_manifest_or_problems_with_places(text in "\\PC{0,80}|([a-z.\\[\\]=\"'{}, \\n#^0-9]{0,120})") {
        if let Err(problems) = Manifest::parse(&text) {
            prop_assert!(!problems.is_empty());
            for problem in problems {
                prop_assert!(text.get(problem.span.clone()).is_some(), "{:?}", problem);
            }
        }
    }

    #[test]
    fn a_damaged_manifest_never_panics(at in 0usize..WHOLE.len(), junk in "[\\[\\]\"'=.#\\n{}a1]{0,3}", cut in 0usize..6) {
        let end = (at + cut).min(WHOLE.len());
        let text = format!("{}{junk}{}", &WHOLE[..at], &WHOLE[end..]);
        match Manifest::parse(&text) {
            Err(problems) => prop_assert!(!problems.is_empty()),
            Ok(_) => { add_need(&text, &word("run"), &package("x"), &plain("^1")).unwrap(); }
        }
    }

    #[test]
    fn adding_then_removing_is_undone_byte_for_byte(name in "[a-z][a-z0-9]{0,8}", purpose in "run|test") {
        prop_assume!(!WHOLE.contains(&name));
        let added = add_need(WHOLE, &word(&purpose), &package(&name), &plain("^1")).unwrap();
        prop_assert!(Manifest::parse(&added.text).is_ok());
        prop_assert_eq!(remove_need(&added.text, None, &package(&name)).unwrap().text, WHOLE);
    }
}

#[test]
fn agreeing_and_deviating_are_written_where_they_belong_and_read_back() {
    let rope = package("rope");
    let text = "[project]\nname = 'console'\n\n[needs.run]\nrope = '^2'  # for the winch\n";
    let text = add_agreed(text, &rope, &accept("^3")).unwrap();
    let edit = add_need(&text, &word("run"), &rope, &NeedForm::Agreed).unwrap();
    assert_eq!(edit.before.as_deref(), Some("^2"));
    assert!(
        edit.text.contains("rope = \"agreed\"  # for the winch\n") && edit.text.contains("[agreed]\nrope = \"^3\"\n")
    );
    let read = Manifest::parse(&edit.text).unwrap();
    assert_eq!(read.needs[&word("run")][&rope].accept, accept("^3"));
    assert_eq!(read.overrides().agreed[&rope], accept("^3"));
    let deviation = NeedForm::Deviation(accept("^4"), "the new winch".into());
    let edit = add_need(&edit.text, &word("run"), &rope, &deviation).unwrap();
    assert!(
        edit.text.contains("rope = { accept = \"^4\", why = \"the new winch\" }  # for the winch\n"),
        "{}",
        edit.text
    );
    let read = Manifest::parse(&edit.text).unwrap();
    assert_eq!(read.needs[&word("run")][&rope].why.as_deref(), Some("the new winch"));
    assert!(read.overrides().agreed.is_empty(), "nothing is agreed where somebody deviates");
    let back = add_need(&edit.text, &word("run"), &rope, &NeedForm::Agreed).unwrap().text;
    assert!(back.contains("rope = \"agreed\"  # for the winch\n"), "{back}");
    assert!(Manifest::parse(&back).unwrap().needs[&word("run")][&rope].why.is_none());
}

proptest! {
    /// Each side changes, adds and removes some of six needs and list entries of what both began with.
    #[test]
    fn merging_takes_what_one_side_changed_and_does_not_care_which_is_ours(
        base in proptest::collection::vec(0..3_u8, 6),
        ours in proptest::collection::vec(0..5_u8, 6),
        theirs in proptest::collection::vec(0..5_u8, 6),
    ) {
        // 0 is nothing; 3 and 4 are as before.
        let text = |side: &[u8]| {
            let of = |at: usize| if side[at] < 3 { side[at] } else { base[at] };
            let needs = (0..4).filter(|at| of(*at) > 0).map(|at| format!("part-{at} = \"^{}\" # {at}\n", of(at)));
            let roles = (4..6).filter(|at| of(*at) > 0).map(|at| format!("\"role-{at}\""));
            let (needs, roles) = (needs.collect::<String>(), roles.collect::<Vec<_>>().join(", "));
            format!("[project]\nname = \"a\"\n[needs.run]\n{needs}[policy]\nshare-roles = [{roles}]\n")
        };
        let (base_text, ours_text, theirs_text) = (text(&base), text(&ours), text(&theirs));
        let of = |side: &[u8], at: usize| if side[at] < 3 { side[at] } else { base[at] };
        let clash = |at: usize| {
            let (was, here, there) = (base[at], of(&ours, at), of(&theirs, at));
            here != was && there != was && here != there
        };
        let one = merge_manifests(&base_text, &ours_text, &theirs_text);
        let other = merge_manifests(&base_text, &theirs_text, &ours_text);
        if (0..4).any(clash) {
            let keys: Vec<String> = (0..4).filter(|at| clash(*at)).map(|at| format!("needs.run.part-{at}")).collect();
            prop_assert_eq!(one.map_err(|mut keys| { keys.sort(); keys }), Err(keys.clone()));
            prop_assert_eq!(other.map_err(|mut keys| { keys.sort(); keys }), Err(keys));
        } else {
            let (one, other) = (one.unwrap(), other.unwrap());
            let (one_read, other_read) = (Manifest::parse(&one).unwrap(), Manifest::parse(&other).unwrap());
            prop_assert_eq!(one_read.requirements(), other_read.requirements());
            prop_assert_eq!(&one_read.policy.share_roles, &other_read.policy.share_roles);
            for (at, was) in base.iter().enumerate().take(4) {
                let merged = if of(&ours, at) == *was { of(&theirs, at) } else { of(&ours, at) };
                prop_assert_eq!(one.contains(&format!("part-{at} = \"^{merged}\" # {at}")), merged > 0, "{}", one);
            }
        }
    }
}

#[test]
fn a_numbering_has_no_keys_but_its_own() {
    let text = "[project]\nname = 'console'\nnumbering = { order = 'words', befor = ['rc'] }\n";
    let problems = Manifest::parse(text).unwrap_err();
    assert!(matches!(&problems[0].kind, ManifestProblemKind::UnknownKey { key, .. } if key == "befor"), "{problems:?}");
}
