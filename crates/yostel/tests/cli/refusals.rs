//! Every code of docs/errors.md, met by the built program: what leads to it, and that it says what the page says.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde_json::Value;
use yostel_testkit::Sandbox;

use crate::small_world;

/// What a script may use: the small world, from the folder of its project.
const WORDS: &str = r#"
refuse() { yostel --format json "$@"; }
fine() { yostel --quiet "$@" > ../fine.log 2>&1 || { cat ../fine.log >&2; exit 99; }; }
need() { sed -i "s|^\[needs.run\]|&\n$1|" yostel.toml; }
say() { printf '%s\n' "$@" >> yostel.toml; }
seal() {
  line=$(grep -n '^seal = ' yostel.lock | cut -d: -f1)
  sum=$(tail -n +$((line + 1)) yostel.lock | sha256sum | cut -d' ' -f1)
  sed -i "${line}s/.*/seal = \"sha256:$sum\"/" yostel.lock
}
patched() { # LINES of a patch of gust
  mkdir patches && printf '%s\n' "$@" > patches/gust.patch
  say '[alter]' 'gust = { patch = "patches/gust.patch", why = "so" }'
}
repository() { # with what is in the folder ../kept
  git init -q ../kept && git -C ../kept add -A
  git -C ../kept -c user.name=a -c user.email=a@example.org commit -qm made || exit 99
}
package() { # NAME LINES: a folder with a manifest
  mkdir -p "../$1" && printf '[project]\nname = "%s"\nversion = "1.0.0"\n%s\n' "$1" "$2" > "../$1/yostel.toml"
}
"#;

/// Codes and how they are met.
const REFUSALS: &[(&str, &str)] = &[
    (
        "ambiguous-source",
        "fine registry create ../other; fine -C ../made/gust-2.1.0 publish --to ../../other --untried
         say '[sources.other]' 'folder = \"../other\"'; refuse lock",
    ),
    ("already-a-project", "refuse init"),
    ("already-published", "echo more > ../made/gust-2.1.0/more; refuse -C ../made/gust-2.1.0 publish --to ../../station"),
    ("archive-differs", "fine lock; for file in ../station/archives/sha256/*; do echo >> $file; done; refuse install"),
    ("archive-missing", "need \"far = { archive = '../far.tar.gz', digest = 'sha256:$(printf %064d 0)' }\"; refuse lock"),
    (
        "archive-refused",
        "echo none > ../far.tar.gz; sum=$(sha256sum ../far.tar.gz | cut -d' ' -f1)
         need \"far = { archive = '../far.tar.gz', digest = 'sha256:$sum' }\"; refuse lock",
    ),
    ("bad-epoch", "SOURCE_DATE_EPOCH=yesterday refuse list"),
    ("bad-patience", "YOSTEL_IDLE_SECONDS=never refuse list"),
    ("baseline", "fine lock; echo 'format = 2' > known.toml; refuse audit --baseline known.toml"),
    ("baseline-missing", "fine lock; refuse audit --baseline known.toml"),
    (
        "both-ask",
        "fine lock; cp yostel.lock base; sed -i 's/^gust = .*/gust = \"=2.0.0\"/' yostel.toml; fine lock; cp yostel.lock ours
         sed -i 's/^gust = .*/gust = \"=2.1.0\"/' yostel.toml; fine lock; refuse lock --for-git base ours yostel.lock yostel.lock",
    ),
    ("cannot-read", "printf '\\377' > yostel.toml; refuse lock"),
    ("cannot-run", "fine lock; fine install; refuse run -- none-such"),
    ("cannot-write", "fine lock; touch .yostel; refuse install"),
    ("check-nowhere", "say '[checks.smoke]' 'run = \"true\"' 'in = [\"other\"]'; fine lock; refuse run --checks"),
    ("collision", "need '\"valley/bell\" = \"*\"'; refuse lock"),
    ("constraint", "refuse add unit '>>1'"),
    ("credentials", "refuse login station.example < /dev/null"),
    ("disk-full", "trap '' XFSZ; ulimit -f 0; refuse lock"),
    (
        "document-too-long",
        "{ printf '{\"format\": 1, \"name\": \"gust\", \"releases\": [], \"more\": \"'; head -c 33554300 /dev/zero | tr '\\0' x
           printf '\"}'; } > ../station/releases/gust.json; refuse -C ../made/gust-2.1.0 publish --to ../../station",
    ),
    ("edited-since", "fine lock; echo >> yostel.lock; refuse undo"),
    ("foreign-manifest", "package kept; repository; need 'other = { git = \"../kept\" }'; refuse lock"),
    ("git", "need 'kept = { git = \"../kept\" }'; refuse lock"),
    ("git-address", "need 'kept = { git = \"git://example.org/kept\" }'; refuse lock"),
    ("git-missing", "need 'kept = { git = \"../kept\" }'; PATH=$(dirname \"$(command -v yostel)\"); refuse lock"),
    (
        "git-out-of-time",
        "need 'kept = { git = \"ssh://example.org/kept\" }'
         GIT_SSH_COMMAND='sleep 9 #' YOSTEL_IDLE_SECONDS=1 refuse lock",
    ),
    (
        "git-refused",
        "package kept; touch ../kept/\"$(printf 'a\\033')\"; repository; need 'kept = { git = \"../kept\" }'; refuse lock",
    ),
    ("journal-forged", "fine add unit; sed -i 's/\"yostel.toml\"/\"..\\/x\"/' ../cache/journal/*/*; refuse undo"),
    ("kit", "echo none > ../kit.tar; refuse cache load ../kit.tar"),
    ("list-unreadable", "echo '<bom/>' > list; refuse import list"),
    ("lockfile-broken", "fine lock; sed -i 's/^name = \"unit\"/name = \"Unit\"/' yostel.lock; seal; refuse install"),
    ("lockfile-changed", "fine lock; sed -i 's/2.1.0/2.0.0/' yostel.lock; refuse install"),
    (
        "lockfile-disputed",
        "fine lock; sed -i 's/who = \"gust 2.1.0\", accept = \"^1\"/who = \"gust 2.1.0\", accept = \">=1\"/' yostel.lock
         seal; refuse install",
    ),
    ("lockfile-later-format", "fine lock; sed -i 's/^format = 1/format = 99/' yostel.lock; seal; refuse install"),
    ("lockfile-merge", "fine lock; echo '<<<<<<< ours' >> yostel.lock; refuse install"),
    ("lockfile-missing", "refuse install"),
    ("lockfile-stale", "fine lock; sed -i 's/\"^2\"/\"^3\"/' yostel.toml; refuse install"),
    (
        "lockfile-unreadable",
        "alternatives() { seq -s '||' -f \">=1, <2.$1.%g\" 16; }
         package far \"[needs.run]
one = '$(alternatives 1)'
two = '$(alternatives 2)'\"; package one; package two; fine -C ../far publish --untried --to ../station
         need 'far = \"*\"'
         say '[swap]' 'one = { use = \"unit\", why = \"so\" }' 'two = { use = \"unit\", why = \"so\" }' '[agreed]' \"unit = '$(alternatives 3)'\" '[policy]' 'coexist = [\"unit\"]'
         refuse lock",
    ),
    ("manifest-agreed", "need 'unit = \"agreed\"'; refuse lock"),
    (
        "manifest-contradiction",
        "say '[swap]' 'gust = { use = \"unit\", why = \"so\" }' 'unit = { use = \"gust\", why = \"so\" }'; refuse lock",
    ),
    ("manifest-merge", "say '<<<<<<< ours' '[policy]' '=======' '>>>>>>> theirs'; refuse lock"),
    ("manifest-missing-key", "sed -i '/^name/d' yostel.toml; refuse lock"),
    ("manifest-syntax", "say '['; refuse lock"),
    ("manifest-type", "need 'unit = 1'; refuse lock"),
    ("manifest-unknown-key", "say 'folders = \"x\"'; refuse lock"),
    ("manifest-value", "say '[policy]' 'minimum-age = \"soon\"'; refuse lock"),
    ("name", "need 'Unit = \"*\"'; refuse lock"),
    (
        "licence",
        "package kept 'licence = \"as you like\"'; refuse -C ../kept publish --to ../station",
    ),
    ("looks-secret", "package kept; echo x > ../kept/.env; refuse -C ../kept publish --to ../station"),
    (
        "older-version",
        "package kept; fine -C ../kept publish --to ../station; sed -i 's/1.0.0/0.9.0/' ../kept/yostel.toml
         refuse -C ../kept publish --to ../station",
    ),
    (
        "needs-elsewhere",
        "package kept '[needs.run]
other = { path = \"../other\" }'; package other; refuse -C ../kept publish --to ../station",
    ),
    ("needs-itself", "need 'console = \"*\"'; refuse lock"),
    (
        "no-artifact",
        "package far; for to in linux/arm64 darwin/arm64; do fine -C ../far publish --to ../station --platform $to; done
         need 'far = \"*\"'; sed -i 's|^name|platforms = [\"linux/arm64\"]\\n&|' yostel.toml; fine lock
         refuse install --platform darwin/arm64",
    ),
    ("no-branch", "fine lock; git init -q; refuse propose"),
    ("no-cache-folder", "unset YOSTEL_CACHE HOME XDG_CACHE_HOME; refuse list"),
    ("no-checks", "fine lock; refuse update --tested"),
    ("no-folder", "refuse -C none-such list"),
    ("no-permission", "fine lock; YOSTEL_CACHE=/sys/none refuse install"),
    ("no-project", "refuse -C .. lock"),
    ("no-releases-accepted", "refuse add valley/bell '^7'"),
    ("no-source", "sed -i '/^\\[sources/,$d' yostel.toml; refuse lock"),
    ("no-such-advisory", "fine lock; refuse audit dismiss STAR-1 --why x"),
    ("no-such-check", "say '[checks.smoke]' 'run = \"true\"'; fine lock; fine install; refuse run --checks smok"),
    ("no-such-need", "refuse remove unit"),
    ("no-such-project", "say '[workspace]' 'projects = []'; fine lock; refuse install --needed-by other"),
    ("no-such-proposal", "fine lock; git init -q; refuse proposals show gust"),
    ("no-such-registry", "refuse publish --to none-such"),
    ("no-such-revision", "fine lock; git init -q; refuse compare nope"),
    ("no-such-source", "refuse sources remove other"),
    ("no-such-release", "refuse withdraw --from ../station gust 9.0.0 --why broken"),
    ("no-edit-helps", "sed -i 's/gust = .*/gust = \"^9\"/' yostel.toml; refuse settle --keep gust"),
    ("no-such-edit", "need '\"valley/bell\" = \"*\"'; refuse settle 99"),
    ("no-version", "package kept; sed -i '/^version/d' ../kept/yostel.toml; refuse -C ../kept publish --to ../station"),
    ("not-a-lockfile", "fine lock; refuse compare yostel.toml"),
    ("not-accepted", "fine lock; refuse update gust =3.0.0"),
    ("not-altered", "fine lock; fine install; refuse alter gust --keep --why so"),
    ("not-dismissed", "fine lock; refuse audit dismiss STAR-1 --take-back"),
    ("not-in-cache", "fine lock; refuse install --offline"),
    ("not-committed", "fine lock; git init -q; git config user.name t; git config user.email t@t.example; git add yostel.toml yostel.lock; git commit -qm base; echo >> yostel.toml; refuse propose"),
    (
        "not-merged",
        "fine lock --take oldest; git init -q; git config user.name t; git config user.email t@t.example; git add yostel.toml yostel.lock; git commit -qm base
         fine propose gust; git checkout -qb other; refuse proposals accept gust",
    ),
    (
        "not-open",
        "fine lock --take oldest; git init -q; git config user.name t; git config user.email t@t.example; git add yostel.toml yostel.lock; git commit -qm base
         fine propose gust; fine proposals decline gust; refuse proposals decline gust",
    ),
    ("not-in-git", "export GIT_CEILING_DIRECTORIES=/; refuse init --git"),
    ("not-installed", "fine lock; refuse run -- true"),
    ("nothing-to-compare", "fine lock; GIT_CEILING_DIRECTORIES=/ refuse compare"),
    ("nothing-to-merge", "fine lock; refuse lock --merge"),
    ("nothing-to-undo", "refuse undo"),
    ("not-locked", "fine lock; fine install; refuse where unknown"),
    ("not-ours", "fine lock; echo mine > needs.svg; refuse graph needs.svg"),
    ("not-packed", "ln -s /etc/hostname ../made/gust-2.1.0/link; refuse -C ../made/gust-2.1.0 publish --to ../../station"),
    ("not-shareable", "package kept; need 'kept = { path = \"../kept\" }'; refuse lock --shareable"),
    (
        "numbering",
        "sed -i 's|^version.*|version = \"7.0\"\\nnumbering = { order = \"words\" }|' ../made/gust-2.1.0/yostel.toml
         refuse -C ../made/gust-2.1.0 publish --to ../../station",
    ),
    ("other-tool", "sed -i 's|^name|yostel = \">=99\"\\n&|' yostel.toml; refuse lock"),
    ("out-of-reach", "fine lock; refuse update gust =9.0.0"),
    (
        "out-of-time",
        // Fourteen pigeons for thirteen holes, of which a release each says whose it is.
        "document() { echo \"{\\\"format\\\": 1, \\\"name\\\": \\\"$1\\\", \\\"releases\\\": [${2#,}]}\" > ../station/releases/$1.json; }
         release() {
           printf ',{\"record\": {\"version\": \"%s.0.0\", \"published\": \"2026-01-01T00:00:00Z\", \"needs\": {\"run\": {%s}}, ' $1 \"$2\"
           printf '\"artifacts\": [{\"platform\": \"any\", \"size\": 1, \"digest\": \"%s\", \"tree\": \"%s\"}]}}' $zero $zero
         }
         zero=sha256:$(printf %064d 0)
         for hole in $(seq 13); do
           document hole$hole \"$(for of in $(seq 14); do release $of ''; done)\"
         done
         for bird in $(seq 14); do
           need \"bird$bird = '*'\"
           document bird$bird \"$(for hole in $(seq 13); do release $hole \"\\\"hole$hole\\\": \\\"=$bird.0.0\\\"\"; done)\"
         done
         refuse lock --time-limit 1ms",
    ),
    ("patch-rejected", "patched '--- a/bin/gust-now' '+++ b/bin/gust-now' '@@ -1,1 +1,1 @@' '-none' '+some'; refuse lock"),
    ("patch-syntax", "patched 'no patch'; refuse lock"),
    ("patch-unreadable", "patched; rm patches/gust.patch; refuse lock"),
    ("path", "need 'kept = { path = \"../kept\" }'; refuse lock"),
    ("proposal-git", "fine lock; export GIT_CEILING_DIRECTORIES=/; refuse propose"),
    ("registry-broken", "echo none > ../station/releases/gust.json; refuse -C ../made/gust-2.1.0 publish --to ../../station"),
    (
        "registry-later-format",
        "echo '{ \"format\": 99, \"name\": \"station\" }' > ../station/registry.json; refuse registry list ../station",
    ),
    ("registry-missing", "refuse registry list ."),
    ("registry-occupied", "refuse registry create ."),
    (
        "republished",
        "fine lock; fine registry create ../other; echo more > ../made/gust-2.1.0/more
         fine -C ../made/gust-2.1.0 publish --to ../../other --untried; cp -r ../other/archives ../station; cp ../other/releases/gust.json ../station/releases
         sed -i 's/\"^2\"/\">=2\"/' yostel.toml; refuse lock",
    ),
    ("separator", "fine lock; fine install; cp -r . ../a:b; refuse -C ../a:b env"),
    ("source-archive-missing", "fine lock; rm ../station/archives/sha256/*; refuse install"),
    ("source-broken", "echo none > ../station/releases/gust.json; refuse lock"),
    ("source-missing", "rm -r ../station; refuse lock"),
    ("source-unreachable", r#"sed -i 's|folder = .*|url = "http://127.0.0.1:9/r"|' yostel.toml; refuse lock"#),
    ("statements", "fine lock; echo {} > yostel.openvex.json; refuse audit"),
    (
        "tree-differs",
        "fine lock; sed -i 's/tree = \"sha256:...../tree = \"sha256:00000/' yostel.lock; seal; refuse install",
    ),
    ("unknown-package", "need 'none-such = \"*\"'; refuse lock"),
    ("unknown-purpose", "fine lock; refuse install --for none-such"),
    ("unknown-source", "fine lock; sed -i 's/sources.station/sources.other/' yostel.toml; refuse install"),
    ("usage", "refuse lock --bogus"),
    (
        "variable-refused",
        "package far '[offers.variables]
LD_PRELOAD = \"x\"'; fine -C ../far publish --to ../station
         need 'far = \"*\"'; fine lock; fine install; refuse env",
    ),
    ("version", "sed -i 's/^version.*/version = \"1\"/' yostel.toml; refuse lock"),
    ("workspace", "say '[workspace]' 'projects = [\"none-such\"]'; refuse lock"),
];

/// Codes that no input of the built program leads to, and why.
const UNMET: &[(&str, &str)] = &[
    ("bad-clock", "the clock of this machine is right"),
    ("internal", "there is no known fault"),
    ("stopped", "the tests of stopping ask for it"),
    ("manifest-changed", "somebody would have to write in the same millisecond; the tests of flows do"),
    ("manifest", "a manifest that cannot be read is refused before it is edited, with its place"),
];

fn statuses_of_the_page() -> BTreeMap<String, Vec<i64>> {
    let page = include_str!("../../../../docs/errors.md");
    let rows = page.split("## §3").nth(1).unwrap().lines().filter(|line| line.starts_with("| `"));
    rows.map(|row| {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").map(str::trim).collect();
        let numbers = cells[2].split(|c: char| !c.is_ascii_digit()).filter_map(|word| word.parse().ok());
        (cells[0].trim_matches('`').to_owned(), numbers.collect())
    })
    .collect()
}

#[test]
fn every_code_of_the_page_is_met_with_its_status_and_a_next_step() {
    let page = statuses_of_the_page();
    let world = small_world();
    let known: BTreeSet<&str> = REFUSALS.iter().chain(UNMET).map(|(code, _)| *code).collect();
    let mut wrong: Vec<String> = page
        .keys()
        .filter(|code| !known.contains(code.as_str()))
        .map(|code| format!("{code}: nothing here leads to it"))
        .collect();
    let next = std::sync::Mutex::new(REFUSALS.iter());
    let found = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                while let Some((code, script)) = { next.lock().unwrap().next() } {
                    if let Some(problem) = problem_of(&world, code, script, page.get(*code)) {
                        found.lock().unwrap().push(format!("{code}: {problem}"));
                    }
                }
            });
        }
    });
    wrong.extend(found.into_inner().unwrap());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Runs a script in a copy of the world; says what is not as it should be.
fn problem_of(world: &Sandbox, code: &str, script: &str, statuses: Option<&Vec<i64>>) -> Option<String> {
    let sandbox = Sandbox::new(env!("CARGO_BIN_EXE_yostel"));
    let copied = Command::new("cp").args(["-a", "."]).arg(sandbox.path("")).current_dir(world.path("")).status();
    assert!(copied.unwrap().success());
    let run = sandbox.finish(&mut sandbox.shell("console", &format!("{WORDS}\n{script}")));
    let Ok(told) = serde_json::from_str::<Value>(&run.stdout) else {
        return Some(format!("status {}, {}{}", run.status, run.stdout, run.stderr));
    };
    let error = &told["errors"][0];
    let right = error["code"] == code
        && told["exit"] == i64::from(run.status)
        && statuses.is_some_and(|statuses| statuses.contains(&i64::from(run.status)))
        && error["headline"].as_str().is_some_and(|text| !text.is_empty())
        && error["next"].as_array().is_some_and(|next| !next.is_empty());
    if !right {
        return Some(format!("status {}, {told}", run.status));
    }
    crate::answering::is_as_its_schema_says(&run.stdout);
    error["next"].as_array().into_iter().flatten().find_map(|next| useless(&sandbox, error, next))
}

#[test]
fn what_is_suggested_to_be_written_ends_the_problem_at_its_line() {
    let sandbox = small_world();
    sandbox.run("console", "add unit --agreed").expect(0);
    let whole = sandbox.read("console/yostel.toml");
    let mut written = 0;
    for (right, wrong) in [
        ("gust = \"^2\"", "gust = \"2.1.0\""),
        ("gust = \"^2\"", "gust = '2.1'"),
        ("gust = \"^2\"", "gust = \"~2.1\""),
        ("gust = \"^2\"", "gust = \">=1, 2.1.0\""),
        ("gust = \"^2\"", "gust = \"\""),
        ("gust = \"^2\"", "gust = { acept = \"^2\" }"),
        ("gust = \"^2\"", "gust = { acept = \"^2\", accept = \"^2\" }"),
        ("gust = \"^2\"", "\"gust\" = { accept = \"\\u0032.1.0\" }"),
        ("version = \"0.4.0\"", "version = \"0.4\""),
        ("version = \"0.4.0\"", "version = '01.4.0'"),
        ("[needs.test]", "[need.test]"),
        ("folder = ", "foldr = "),
        ("folder = ", "foldr = \"x\"\nfolder = "),
    ] {
        assert!(whole.contains(right), "{right}: {whole}");
        sandbox.write("console/yostel.toml", whole.replacen(right, wrong, 1));
        let told = sandbox.run("console", "--format json lock").expect(2).stdout;
        let told: Value = serde_json::from_str(&told).unwrap();
        for error in told["errors"].as_array().unwrap() {
            for next in error["next"].as_array().unwrap() {
                assert_eq!(useless(&sandbox, error, next), None, "{wrong}");
                written += usize::from(next["kind"] == "edit");
            }
        }
    }
    assert!(written >= 13, "{written} texts were written");
}

/// A path is copied into a shell as it is shown: one that is no plain word must come through as one.
#[test]
fn a_suggested_command_is_about_the_same_path_whatever_is_in_its_name() {
    let sandbox = small_world();
    let folder = "console/it's $HOME; touch oops";
    sandbox.write(&format!("{folder}/note"), "");
    let told = sandbox
        .finish(&mut sandbox.shell("console", "yostel --format json registry create \"it's \\$HOME; touch oops\""));
    let told: Value = serde_json::from_str(&told.stdout).unwrap();
    let command = told["errors"][0]["next"][0]["command"].as_str().unwrap();
    assert_eq!(command, "yostel registry create 'it'\\''s $HOME; touch oops/registry'");
    let made = sandbox.finish(&mut sandbox.shell("console", command)).expect(0);
    assert!(sandbox.path(&format!("{folder}/registry")).is_dir(), "{}", made.stdout);
    assert!(!sandbox.path("console/oops").exists());
}

/// Does what a suggestion says; tells when it is no command, or when writing it ends nothing.
fn useless(sandbox: &Sandbox, error: &Value, next: &Value) -> Option<String> {
    match next["kind"].as_str()? {
        "run" => {
            let command = next["command"].as_str()?;
            let to_fill_in =
                |word: &str| word.contains('…') || word.len() > 2 && !word.contains(|c: char| !c.is_uppercase());
            let words = command.strip_prefix("yostel ").filter(|words| !words.split(' ').any(to_fill_in))?;
            let line = format!("yostel --format json {words}");
            let ran = sandbox.finish(&mut sandbox.shell("console", &line));
            ran.stdout.contains("\"usage\"").then(|| format!("`{command}` cannot be run: {}", ran.stdout))
        }
        "edit" => {
            let (place, with) = (&error["place"], next["with"].as_str()?);
            let file = format!("console/{}", place["file"].as_str().unwrap());
            let number = |name: &Value| usize::try_from(name.as_u64().unwrap()).unwrap();
            let (line, column) = (number(&place["line"]), number(&place["column"]));
            let length = number(&place["marked"]["end"]) - number(&place["marked"]["start"]);
            let text = sandbox.read(&file);
            let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
            let old: Vec<char> = lines[line - 1].chars().collect();
            let (before, after) = (&old[..column - 1], &old[column - 1 + length..]);
            lines[line - 1] =
                format!("{}{with}{}", before.iter().collect::<String>(), after.iter().collect::<String>());
            sandbox.write(&file, lines.join("\n") + "\n");
            let again = sandbox.finish(&mut sandbox.shell("console", "yostel --format json lock")).stdout;
            sandbox.write(&file, text);
            let told: Value = serde_json::from_str(&again).unwrap();
            let mut errors = told["errors"].as_array().into_iter().flatten();
            let same_line =
                errors.any(|other| other["place"]["file"] == place["file"] && other["place"]["line"] == place["line"]);
            same_line.then(|| format!("with `{with}` written, still: {again}"))
        }
        _ => None,
    }
}
