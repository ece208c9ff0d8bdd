//! Every kind of thing that can make needs collide, asked for directly, through one package, through three, and by two
//! projects: who is to blame is told with every rule that was at work, and `settle` has the edit that one would make.
//! The accident this prevents: a message that names the needs and not the line of the manifest that is the reason.

use std::collections::BTreeSet;

use serde_json::Value;
use yostel_testkit::{Sandbox, World};

use crate::sandbox;

/// One kind of collision.
struct Kind {
    name: &'static str,
    /// What collides. Directly, these are the project's needs; else, those of packages that it needs.
    needs: &'static [&'static str],
    /// What older releases of such a package need instead; nothing where they need the same.
    instead: &'static [&'static str],
    /// The packages, a line per release.
    world: &'static str,
    /// What else is in the manifest.
    rules: &'static str,
    /// What else is in its `[project]`.
    project: &'static str,
    /// What is asked of `lock` and `settle`.
    options: &'static str,
    /// What a reader must be told, beside the needs.
    told: &'static [&'static str],
    /// The edit that one would make where the needs are direct, and where they are of packages; `TOP` is the first need's.
    edits: (&'static str, &'static str),
}

const PLAIN: Kind = Kind {
    name: "",
    needs: &[],
    instead: &[],
    world: "",
    rules: "",
    project: "",
    options: "",
    told: &[],
    edits: ("", ""),
};

const KINDS: &[Kind] = &[
    Kind {
        name: "incompatible lines",
        needs: &["unit ^1", "unit ^2"],
        world: "unit 1.0.0:\nunit 1.4.0:\nunit 2.0.0:",
        told: &[
            "needs unit ^1, which leaves 1.4.0 or 1.0.0",
            "needs unit ^2, which leaves 2.0.0",
            "1.x and 2.x of unit are not compatible",
        ],
        edits: ("change unit ^1>^2.0.0", "coexist unit"),
        ..PLAIN
    },
    Kind {
        name: "one line, nothing in common",
        needs: &["unit <1.3", "unit >=1.4, <2"],
        instead: &["unit ^1", "unit ^1"],
        world: "unit 1.0.0:\nunit 1.4.0:",
        told: &["needs unit <1.3, which leaves 1.0.0", "needs unit >=1.4, <2, which leaves 1.4.0"],
        edits: ("change unit <1.3>^1.4.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "no release",
        needs: &["unit ^3"],
        instead: &["unit ^2"],
        world: "unit 1.0.0:\nunit 2.0.0:",
        told: &["needs unit ^3, which no release meets; there is 2.0.0 and 1.0.0"],
        edits: ("change unit ^3>^2.0.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "agreed",
        needs: &["cabin ^1"],
        world: "unit 1.0.0:\nunit 2.0.0:\nunit 2.1.0:\ncabin 1.0.0: unit ^2",
        rules: "[agreed]\nunit = \"^1\"\n",
        told: &[
            "cabin 1.0.0 needs unit ^2, which [agreed] (yostel.toml:LINE) makes unit ^2, ^1, which no release meets; \
             there is 2.1.0, 2.0.0 and 1.0.0",
        ],
        edits: ("agree unit ^1>^2.1.0", "agree unit ^1>^2.1.0"),
        ..PLAIN
    },
    Kind {
        name: "forced",
        needs: &["cabin ^1", "gear ^2"],
        world: "unit 1.0.0: gear ^1\nunit 2.0.0: gear ^2\ngear 1.0.0:\ngear 2.0.0:\ncabin 1.0.0: unit ^2",
        rules: "[force]\nunit = { version = \"1.0.0\", why = \"2.0 drops frames\" }\n",
        told: &[
            "cabin 1.0.0 needs unit ^2, which [force] (yostel.toml:LINE) makes unit =1.0.0",
            "unit 1.0.0 needs gear ^1",
        ],
        edits: ("unforce unit", "unforce unit"),
        ..PLAIN
    },
    Kind {
        name: "swapped",
        needs: &["logger ^2"],
        world: "logger 2.0.0:\nplain 1.3.0:",
        rules: "[swap]\nlogger = { use = \"plain\", why = \"not maintained\" }\n",
        told: &[
            "needs logger ^2, which [swap] (yostel.toml:LINE) makes plain ^2, which no release meets; there is 1.3.0",
        ],
        edits: ("swap logger", "swap logger"),
        ..PLAIN
    },
    Kind {
        name: "one role twice",
        needs: &["left ^1", "right ^1"],
        world: "left 1.0.0 role=wind:\nright 1.0.0 role=wind:",
        told: &["left and right both fill the role wind"],
        edits: ("share-role wind", "share-role wind"),
        ..PLAIN
    },
    Kind {
        name: "a platform that is not served",
        needs: &["unit ^1"],
        world: "unit 1.0.0 for=linux/amd64:",
        project: "platforms = [\"linux/amd64\", \"windows/amd64\"]\n",
        told: &[
            "needs unit ^1, which no release meets that may be chosen: 1.0.0 offers nothing for windows/amd64",
            "platforms = [\"linux/amd64\", \"windows/amd64\"]",
        ],
        edits: ("only-on unit without windows/amd64", "drop-platform windows/amd64"),
        ..PLAIN
    },
    Kind {
        name: "too young",
        needs: &["unit ^1.2"],
        world: "unit 1.1.0:\nunit 1.2.0 @20715:",
        rules: "[policy]\nminimum-age = \"7 days\"\n",
        told: &[
            "needs unit ^1.2, which no release meets that may be chosen: 1.2.0 (published 2026-09-19) is too \
             young until 2026-09-26",
            "minimum-age = \"7 days\"",
        ],
        edits: ("admit unit 1.2.0", "admit unit 1.2.0"),
        ..PLAIN
    },
    Kind {
        name: "withdrawn",
        needs: &["unit ^1.2"],
        instead: &["unit ^1.1"],
        world: "unit 1.1.0:\nunit 1.2.0 withdrawn @20000:",
        told: &["needs unit ^1.2, which no release meets that may be chosen: 1.2.0 was withdrawn 2024-10-04: broken"],
        edits: ("change unit ^1.2>^1.1.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "only a pre-release",
        needs: &["unit ^2"],
        instead: &["unit ^1"],
        world: "unit 1.0.0:\nunit 2.0.0-rc.1:",
        told: &["needs unit ^2, which no release meets; there is 1.0.0, and before their release 2.0.0-rc.1"],
        edits: ("change unit ^2>^1.0.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "nothing but pre-releases",
        needs: &["unit *"],
        instead: &["bystander ^1"],
        world: "unit 2.0.0-rc.1:\nunit 2.0.0-rc.2:",
        told: &["needs unit *, which no release meets; there are only pre-releases: 2.0.0-rc.2 and 2.0.0-rc.1"],
        edits: ("change unit *>^2.0.0-rc.2", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "published later than asked for",
        needs: &["unit ^1.2"],
        instead: &["unit ^1.1"],
        world: "unit 1.1.0:\nunit 1.2.0 @20000:",
        options: " --as-of 2024-10-01",
        told: &["1.2.0 was published 2024-10-04, after the day asked for"],
        edits: ("change unit ^1.2>^1.1.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "in no source",
        needs: &["cabin ^1"],
        world: "cabin 1.0.0: nobody ^1\ncabin 0.9.0:",
        instead: &["cabin ^0.9"],
        told: &["cabin 1.0.0 needs nobody ^1; no source has nobody"],
        edits: ("change cabin ^1>^0.9.0", "change TOP ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "beside what has nothing to do with it",
        needs: &["gear ^1", "rope ^1"],
        world: "unit 1.0.0:\nunit 1.5.0:\nunit 2.0.0:\ngear 1.0.0: unit >=1.5; side ^1\ngear 1.1.0: unit >=1.5\n\
                rope 1.0.0: unit <1.4\nrope 0.9.0: unit *\nside 1.0.0: unit *",
        instead: &["gear ^1", "rope ^0.9"],
        told: &[
            "gear 1.0.0 and 1.1.0 need unit >=1.5, which leaves 2.0.0 or 1.5.0",
            "rope 1.0.0 needs unit <1.4, which leaves 1.0.0",
        ],
        edits: ("change rope ^1>^0.9.0", "change way1-1 ^1>^0.9.0"),
        ..PLAIN
    },
    Kind {
        name: "two rules at once",
        needs: &["cabin ^1"],
        world: "logger 2.0.0:\nplain 1.3.0:\nplain 2.2.0:\ncabin 1.0.0: logger ^2",
        rules: "[swap]\nlogger = { use = \"plain\", why = \"not maintained\" }\n[agreed]\nplain = \"<2\"\n",
        told: &[
            "cabin 1.0.0 needs logger ^2, which [agreed] (yostel.toml:LINE2) and [swap] (yostel.toml:LINE) make plain ^2, <2",
        ],
        edits: ("agree plain <2>^2.2.0", "agree plain <2>^2.2.0"),
        ..PLAIN
    },
];

/// Where the needs are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Depth {
    Direct,
    Through(usize),
    TwoProjects,
}

/// Makes the project, or the workspace, with these needs and one that has nothing to do with it; returns the packages that
/// it needs and that are to blame.
fn made(kind: &Kind, depth: Depth) -> (Sandbox, Vec<String>) {
    let sandbox = sandbox();
    let mut world = format!("{}\nbystander 1.0.0:\n", kind.world);
    let mut needs = Vec::new();
    let mut top = Vec::new();
    for (at, need) in kind.needs.iter().enumerate() {
        let (package, accept) = need.split_once(' ').unwrap();
        let Depth::Through(steps) = depth else {
            needs.push(format!("{package} = \"{accept}\""));
            top.push(package.to_owned());
            continue;
        };
        for step in 1..=steps {
            let way = format!("way{at}-{}", step + 1);
            // In a world's text, a comma is between needs.
            let next =
                |line: &str, end: &str| if step == steps { end.replace(", ", " & ") } else { format!("{way} {line}") };
            world.push_str(&format!("way{at}-{step} 1.0.0: {}\n", next("^1", need)));
            if let Some(instead) = kind.instead.get(at) {
                world.push_str(&format!("way{at}-{step} 0.9.0: {}\n", next("^0.9", instead)));
            }
        }
        needs.push(format!("way{at}-1 = \"^1\""));
        top.push(format!("way{at}-1"));
    }
    World::parse(&world).write_to(&sandbox.path("station"));
    let Kind { rules, project, .. } = kind;
    let head = |name: &str, rest: &str| format!("[project]\nname = \"{name}\"\n{rest}\n");
    let sources = "[sources.station]\nfolder = \"../station\"\n\n";
    let (one, two) = needs.split_at(1);
    // A package can be needed twice by one project for different purposes alone.
    let two = two.join("\n");
    let bystander = "bystander = \"^1\"\n";
    if depth == Depth::TwoProjects {
        let root = head("console", project) + "[workspace]\nprojects = [\"one\", \"two\"]\n\n" + sources + rules;
        sandbox.write("console/yostel.toml", root);
        sandbox.write("console/one/yostel.toml", head("one", "") + &format!("[needs.run]\n{bystander}{}\n", one[0]));
        sandbox.write("console/two/yostel.toml", head("two", "") + &format!("[needs.run]\n{bystander}{two}\n"));
    } else {
        let needs = format!("[needs.run]\n{bystander}{}\n\n[needs.test]\n{two}\n", one[0]);
        sandbox.write("console/yostel.toml", head("console", project) + sources + rules + "\n" + &needs);
    }
    (sandbox, top)
}

/// Lists the sets of edits that `settle` has, each edit in a few words.
fn listed(sandbox: &Sandbox, options: &str) -> Vec<String> {
    let told = sandbox.run("console", &format!("--format json settle{options}")).expect(0).stdout;
    let told: Value = serde_json::from_str(&told).unwrap();
    let edit = |edit: &Value| {
        let text = |key: &str| edit[key].as_str().unwrap_or_default().to_owned();
        let (kind, package) = (text("kind"), text("package"));
        match kind.as_str() {
            "change" | "agree" => format!("{kind} {package} {}>{}", text("from"), text("to")),
            "admit" | "force" => format!("{kind} {package} {}", text("version")),
            "only-on" => format!("{kind} {package} without {}", text("without")),
            "share-role" => format!("{kind} {}", text("role")),
            "drop-platform" => format!("{kind} {}", text("platform")),
            _ => format!("{kind} {package}"),
        }
    };
    let sets = told["edit-sets"].as_array().unwrap().iter();
    sets.map(|set| set["edits"].as_array().unwrap().iter().map(edit).collect::<Vec<_>>().join(", ")).collect()
}

#[test]
fn every_kind_of_collision_is_told_with_its_reason_and_ended_by_the_edit_that_one_would_make() {
    let all = [Depth::Direct, Depth::Through(1), Depth::Through(3), Depth::TwoProjects];
    let mut wrong = Vec::new();
    let mut tried = 0;
    for (kind, depth) in KINDS.iter().flat_map(|kind| all.map(|depth| (kind, depth))) {
        tried += 1;
        let (sandbox, top) = made(kind, depth);
        let mut fault = |what: &str| wrong.push(format!("=== {}, {depth:?}: {what}", kind.name));
        let told = sandbox.run("console", &format!("lock{}", kind.options)).expect(3).stderr;
        if told.lines().count() > 24 {
            fault(&format!("{} lines", told.lines().count()));
        }
        let manifest = sandbox.read("console/yostel.toml");
        let line = |table: &str| {
            manifest.lines().position(|line| line == table).map_or(String::new(), |at| (at + 2).to_string())
        };
        for expected in kind.told {
            let second = expected.replace("LINE2", &line("[agreed]"));
            let first = ["[swap]", "[force]", "[agreed]"].map(line).into_iter().find(|line| !line.is_empty());
            let expected = second.replace("LINE", &first.unwrap_or_default());
            if !told.contains(&expected) {
                fault(&format!("not told: {expected}\n{told}"));
            }
        }
        // Whoever is to blame is named with the line where it is, and nobody else.
        let failed = sandbox.run("console", &format!("--format json lock{}", kind.options)).expect(3).stdout;
        let failed: Value = serde_json::from_str(&failed).unwrap();
        let notes = failed["errors"][0]["notes"].as_array().unwrap().iter();
        let blamed: BTreeSet<String> = notes
            .filter(|note| note["line"].is_number())
            .filter_map(|note| note["says"].as_str()?.split_once(" needs ")?.1.split(' ').next().map(str::to_owned))
            .collect();
        if blamed != top.iter().cloned().collect() {
            fault(&format!("{blamed:?} are blamed, not {top:?}"));
        }
        let edits = listed(&sandbox, kind.options);
        let through = matches!(depth, Depth::Through(_));
        let edit = if through { kind.edits.1 } else { kind.edits.0 }.replace("TOP", &top[0]);
        if !edits.iter().take(3).any(|listed| *listed == edit) {
            fault(&format!("{edit} is not among the first of {edits:#?}"));
        }
        sandbox.run("console", &format!("settle 1{}", kind.options)).expect(0);
        sandbox.run("console", &format!("lock{}", kind.options)).expect(0);
    }
    assert!(tried >= 60 && wrong.is_empty(), "{} of {tried}:\n{}", wrong.len(), wrong.join("\n"));
}
