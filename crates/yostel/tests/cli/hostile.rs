//! What is too much: texts, archives, chains, folders and files of any size, servers that never answer.

use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};
use yostel_registry::Publication;

use yostel_testkit::Sandbox;

use crate::{digest_of, folder_of, project, publish, sandbox, small_world};

#[test]
fn a_server_that_says_nothing_is_not_waited_for() {
    let sandbox = sandbox();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    // It accepts, and never answers.
    std::thread::spawn(move || {
        let held: Vec<_> = listener.incoming().take(16).collect();
        std::thread::sleep(Duration::from_secs(120));
        drop(held);
    });
    for (address, says) in [
        (format!("git://127.0.0.1:{port}/repo"), "says nothing"),
        (format!("http://127.0.0.1:{port}/repo"), "git cannot reach"),
    ] {
        let manifest = format!(
            "[project]\nname = \"console\"\n[policy]\ngit-schemes = [\"git\", \"http\"]\n\
             [needs.run]\nclock = {{ git = \"{address}\", branch = \"main\" }}\n"
        );
        sandbox.write("console/yostel.toml", manifest);
        let began = Instant::now();
        let mut command = sandbox.command("console", "lock");
        command.env("YOSTEL_IDLE_SECONDS", "2");
        let run = sandbox.finish(&mut command).expect(5);
        assert!(run.stderr.contains(says) || run.stderr.contains("says nothing"), "{}", run.stderr);
        assert!(began.elapsed() < Duration::from_secs(30), "{address}: {:?}", began.elapsed());
    }
    for (address, says) in [
        ("fd::0", "`::` names a program to run"),
        ("ext::sh -c evil", "`::` names a program to run"),
        ("ftp://127.0.0.1/repo", "addresses begin with https://"),
        ("http://127.0.0.1:1/repo", "anybody on the way can read and change"),
    ] {
        let manifest = format!(
            "[project]\nname = \"console\"\n[needs.run]\nclock = {{ git = \"{address}\", branch = \"main\" }}\n"
        );
        sandbox.write("console/yostel.toml", manifest);
        sandbox.run("console", "lock").expect(2).says(&["is not asked", says, "next:"]);
    }
    sandbox.write("console/yostel.toml", "[project]\nname = \"console\"\n");
    let mut command = sandbox.command("console", "lock");
    command.env("YOSTEL_IDLE_SECONDS", "soon");
    sandbox.finish(&mut command).expect(2).says(&["YOSTEL_IDLE_SECONDS is `soon`"]);
    // A zero byte is the manifest's fault, not git's.
    sandbox.write(
        "console/yostel.toml",
        "[project]\nname = \"console\"\n[needs.run]\nclock = { git = \"../repo\", inside = \"a\\u0000b\" }\n",
    );
    sandbox.run("console", "lock").expect(2).says(&["`inside`", "a folder inside"]);
}

#[test]
fn what_is_locked_can_be_read_back_however_constraints_grow() {
    let sandbox = sandbox();
    publish(&sandbox, "unit 1.5.0", "", &[]);
    let alternatives = |count: usize| (0..count).map(|i| format!("=1.5.{i}")).collect::<Vec<_>>().join("||");
    let ranges = |count: usize| (0..count).map(|i| format!(">=1.{i},<2")).collect::<Vec<_>>().join("||");
    publish(&sandbox, "gust 1.0.0", &format!("unit = '{}'", alternatives(16)), &[]);
    project(&sandbox, "gust = \"^1\"", "");
    let manifest = sandbox.read("console/yostel.toml");
    sandbox.write("console/yostel.toml", format!("{manifest}\n[agreed]\nunit = \"{}\"\n", ranges(16)));
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    assert!(sandbox.read("console/yostel.lock").len() > 2000, "joined with what is agreed, it is long");
    // More than anybody writes is refused where it is written, and a registry's record is no exception.
    sandbox.write("console/yostel.toml", format!("{manifest}\n[agreed]\nunit = \"{}\"\n", alternatives(17)));
    sandbox.run("console", "lock").expect(2).says(&["more than 16 alternatives"]);
    sandbox.write("console/yostel.toml", &manifest);
    let document = sandbox.read("station/releases/gust.json");
    sandbox.write(
        "station/releases/gust.json",
        document.replace(&alternatives(16).replace("||", " || "), &alternatives(17)),
    );
    sandbox.run("console", "lock --fresh").expect(5).says(&["more than 16 alternatives"]);
}

#[test]
fn versions_and_clocks_of_any_length_are_refused_with_words() {
    let sandbox = small_world();
    let long = format!("1.0.{}", "9".repeat(1_000_000));
    for version in [&long, &format!("1.0.0-{}", "a".repeat(1100))] {
        sandbox.write("made/long/yostel.toml", format!("[project]\nname = \"long\"\nversion = \"{version}\"\n"));
        let began = Instant::now();
        sandbox.run("made/long", "publish --to ../../station").expect(2).says(&["longer than 100 bytes"]);
        assert!(began.elapsed() < Duration::from_secs(5));
        let document = sandbox.read("station/releases/unit.json");
        sandbox.write("station/releases/unit.json", document.replace("\"1.0.0\"", &format!("\"{version}\"")));
        sandbox.run("console", "lock --fresh").expect(5).says(&["longer than 100 bytes"]);
        sandbox.write("station/releases/unit.json", document);
    }
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", &format!("explain unit --instead 1.0.{}", "9".repeat(1100))).expect(2);
    let mut command = sandbox.command("console", "install");
    command.env("SOURCE_DATE_EPOCH", "253402300799");
    let run = sandbox.finish(&mut command);
    assert!([0, 2].contains(&run.status), "{}", run.stderr);
}

#[test]
fn help_that_cannot_be_written_is_not_fine() {
    if !std::path::Path::new("/dev/full").exists() {
        return;
    }
    let sandbox = sandbox();
    for words in ["--help", "--version", "lock --help", "registry list-nothing"] {
        let mut command = sandbox.command("", words);
        command.stdout(fs::OpenOptions::new().write(true).open("/dev/full").unwrap());
        let run = sandbox.finish(&mut command);
        assert_ne!(run.status, 0, "{words}");
    }
}

#[test]
fn text_from_outside_never_steers_the_terminal() {
    let sandbox = sandbox();
    let evil = "old\u{1b}[2J\r\u{9b}31m\u{202e}\u{7}\u{200b}x";
    let escaped = |c: char| c.escape_unicode().to_string();
    fs::remove_dir_all(sandbox.path("station")).unwrap();
    let mut command = sandbox.command("", "registry create station");
    command.args(["--name", evil]);
    sandbox.finish(&mut command).expect(0);
    publish(&sandbox, "unit 1.0.0", "", &[]);
    sandbox.write("made/unit-1.0.0/yostel.toml", "[project]\nname = \"unit\"\nversion = \"1.1.0\"\n");
    let mut command = sandbox.command("made/unit-1.0.0", "publish --to ../../station --deprecated");
    sandbox.finish(command.arg(evil)).expect(0);
    let mut command = sandbox.command("", "withdraw unit 1.0.0 --from station --why");
    sandbox.finish(command.arg(evil)).expect(0);
    project(&sandbox, "unit = \"^1\"", "");
    let raw = |c: char| c != '\n' && c != '\t' && (c.is_control() || ('\u{200b}'..='\u{202e}').contains(&c));
    for words in ["lock", "explain unit", "list", "audit", "add unit =1.0.0", "registry list ../station", "tree"] {
        for front in ["--color never", "--format json", ""] {
            let run = sandbox.run("console", &format!("{front} {words}"));
            assert!(!run.stdout.chars().chain(run.stderr.chars()).any(raw), "{front} {words}: {:?}", run.stdout);
            if front == "--format json" && !run.stdout.is_empty() {
                serde_json::from_str::<serde_json::Value>(&run.stdout).unwrap();
            }
        }
        let run = sandbox.run("console", &format!("--color always {words}"));
        let text = run.stdout.replace("\u{1b}[", "");
        assert!(!text.chars().any(raw) && !run.stdout.contains("[2J\r"), "{words}: {:?}", run.stdout);
    }
    let told = sandbox.run("", "registry list station").stdout;
    assert!(told.contains(&escaped('\u{9b}')) && told.contains(&escaped('\u{202e}')), "{told}");
}

#[test]
fn chains_of_needs_are_locked_drawn_and_explained_however_deep() {
    let sandbox = sandbox();
    let depth = if cfg!(debug_assertions) { 600 } else { 4000 };
    let digest = "0".repeat(64);
    let release = |version: &str, needs: &str| {
        format!(
            "{{\"record\":{{\"version\":\"{version}\",\"published\":\"2026-01-01T00:00:00Z\",\
             \"needs\":{{\"run\":{{{needs}}}}},\"artifacts\":[{{\"platform\":\"any\",\"digest\":\"sha256:{digest}\",\
             \"size\":1,\"tree\":\"sha256:{digest}\"}}]}}}}"
        )
    };
    let write = |name: &str, releases: &str| {
        let document = format!("{{\"format\":1,\"name\":\"{name}\",\"releases\":[{releases}]}}");
        sandbox.write(&format!("station/releases/{name}.json"), document);
    };
    for i in 0..depth {
        let next = if i + 1 < depth { format!("c{}", i + 1) } else { "leaf".to_owned() };
        write(&format!("c{i}"), &release("1.0.0", &format!("\"{next}\": \"^1\"")));
    }
    write("leaf", &[release("1.0.0", ""), release("2.0.0", "")].join(","));
    project(&sandbox, "c0 = \"^1\"", "");
    let began = Instant::now();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "tree").expect(0).stdout;
    assert!(told.contains("c58 1.0.0") && told.contains("(and what it needs)"), "{told}");
    sandbox.run("console", "--format json tree").expect(0);
    sandbox.run("console", &format!("explain c{}", depth - 1)).expect(0);
    sandbox.run("console", "list").expect(0);
    // All of them have the same files, which is a finding.
    sandbox.run("console", "audit").expect(1);
    project(&sandbox, "c0 = \"^1\"\nleaf = \"^2\"", "");
    let told = sandbox.run("console", "lock").expect(3).stderr;
    let ways =
        ["c0 1.0.0 needs c1 ^1", &format!("… {} packages between …", depth - 3), "needs leaf ^1, which leaves 1.0.0"];
    assert!(ways.iter().all(|way| told.contains(way)), "{told}");
    let told = sandbox.run("console", "settle").expect(0).stdout;
    assert!(told.contains("change leaf from ^2 to ^1"), "{told}");
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
}

/// Runs a prepared command; returns the most memory that it was seen to take, in KiB.
fn with_peak(sandbox: &Sandbox, command: &mut Command) -> (yostel_testkit::Run, u64) {
    use std::process::Stdio;
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().unwrap().is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let now = text.lines().find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.parse().ok());
        peak = now.unwrap_or(0).max(peak);
        std::thread::sleep(Duration::from_micros(500));
    }
    let output = child.wait_with_output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let run = yostel_testkit::Run {
        status: output.status.code().unwrap_or(-1),
        stdout: text(&output.stdout),
        stderr: text(&output.stderr),
    };
    let _ = sandbox;
    (run, peak)
}

fn tar_header(name: &str, kind: u8, size: u64) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
    header.set_entry_type(tar::EntryType::new(kind));
    header.set_mode(0o644);
    header.set_size(size);
    header.set_cksum();
    header.as_bytes().to_vec()
}

#[test]
fn archives_that_want_memory_and_time_get_neither() {
    let sandbox = sandbox();
    let zstd = |bytes: &[u8]| zstd::encode_all(bytes, 3).unwrap();
    let zeros = zstd(&vec![0; 64 << 20]);
    // One frame of zeros, as often as it takes: kilobytes that unpack to gigabytes.
    let bomb = |head: &[u8], times: usize| [zstd(head), zeros.repeat(times)].concat();
    let dots = zstd(&tar_header("./", b'5', 0).repeat(100_000));
    let many: Vec<u8> = (0..300_000).flat_map(|i| tar_header(&format!("f{i}"), b'0', 0)).collect();
    let long: Vec<u8> = (0..40_000u32)
        .flat_map(|i| {
            let name = format!("{}{i:0>1000}", "d/".repeat(10));
            let mut name = name.as_bytes()[..1000].to_vec();
            // A part has at most 255 bytes.
            (0..1000).step_by(200).skip(1).for_each(|at| name[at] = b'/');
            let mut bytes = tar_header("././@LongLink", b'L', 1000);
            bytes.extend(&name);
            bytes.resize(bytes.len().next_multiple_of(512), 0);
            bytes.extend(tar_header("x", b'0', 0));
            bytes
        })
        .collect();
    let mut wide = zstd::Encoder::new(Vec::new(), 3).unwrap();
    wide.window_log(27).unwrap();
    std::io::copy(&mut &vec![7u8; 200 << 20][..], &mut wide).unwrap();
    let hostile: [(&str, Vec<u8>); 10] = [
        ("a name of 2 GiB", bomb(&tar_header("././@LongLink", b'L', 2 << 30), 32)),
        ("a target of 2 GiB", bomb(&tar_header("././@LongLink", b'K', 2 << 30), 32)),
        ("remarks of 2 GiB", bomb(&tar_header("remarks", b'x', 2 << 30), 32)),
        ("remarks on everything", bomb(&tar_header("remarks", b'g', 2 << 30), 32)),
        ("a folder of 2 GiB", bomb(&tar_header("d", b'5', 2 << 30), 32)),
        ("zeros after the end", bomb(&vec![0; 1024], 64)),
        ("20 million times the same folder", dots.repeat(200)),
        ("300,000 files", zstd(&many)),
        ("40 MB of names", zstd(&long)),
        ("a window of 128 MiB", wide.finish().unwrap()),
    ];
    for (what, archive) in hostile {
        fs::remove_dir_all(sandbox.path("cache")).ok();
        crate::refusing::plant(&sandbox, &archive);
        let began = Instant::now();
        let (run, peak) = with_peak(&sandbox, &mut sandbox.command("console", "install"));
        println!("{what}: {} bytes, {} KiB, {:?}", archive.len(), peak, began.elapsed());
        run.expect(4).says(&["trap 1.0.0 is refused", "next:"]);
        assert!(peak < 64 << 10, "{what}: {peak} KiB");
        assert!(!sandbox.path("cache/trees").exists(), "{what}");
    }
}

/// Runs a line with few open files permitted.
fn with_open_files(sandbox: &Sandbox, folder: &str, most: u32, words: &str) -> yostel_testkit::Run {
    sandbox.finish(&mut sandbox.shell(folder, &format!("ulimit -n {most} && exec yostel {words}")))
}

#[test]
fn an_install_of_1500_packages_needs_few_open_files() {
    let sandbox = sandbox();
    let registry = yostel_registry::Registry::open(&sandbox.path("station")).unwrap();
    let mut needs = String::new();
    for i in 0..1500 {
        let text = format!("[project]\nname = \"p{i}\"\nversion = \"1.0.0\"\n");
        sandbox.write("made/p/yostel.toml", &text);
        sandbox.write("made/p/share/a", format!("{i}\n"));
        let manifest = yostel_documents::Manifest::parse(&text).unwrap();
        let now = "2026-01-01T00:00:00Z".parse().unwrap();
        let (folder, remarks) = (&sandbox.path("made/p"), Default::default());
        let publication = Publication {
            folder,
            without: &[],
            manifest: &manifest,
            now,
            commit: &|| None,
            remarks,
            backport: true,
            preview: false,
        };
        yostel_registry::publish(&registry, &publication).unwrap();
        needs.push_str(&format!("p{i} = \"^1\"\n"));
    }
    project(&sandbox, &needs, "");
    with_open_files(&sandbox, "console", 64, "lock").expect(0);
    // From a server too, and where too few may be open, that is what is told.
    let server = yostel_testkit::WebServer::serving(sandbox.path("station"));
    let manifest = sandbox.read("console/yostel.toml");
    let source = manifest.lines().find(|line| line.starts_with("folder = ")).unwrap();
    sandbox.write("web/yostel.toml", manifest.replace(source, &format!("url = \"{}\"", server.address())));
    with_open_files(&sandbox, "web", 64, "lock").expect(0);
    assert_eq!(sandbox.read("web/yostel.lock"), sandbox.read("console/yostel.lock"));
    let few = with_open_files(&sandbox, "web", 6, "lock --fresh").expect(7);
    few.says(&["Too many open files", "next: let more files be open at once, for instance with ulimit -n 1024"]);
    let cold = with_open_files(&sandbox, "console", 64, "install").expect(0).stdout;
    fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
    let warm = with_open_files(&sandbox, "console", 64, "install --offline").expect(0).stdout;
    assert_eq!(digest_of(&cold), digest_of(&warm));
    with_open_files(&sandbox, "console", 64, "verify").expect(0);
    with_open_files(&sandbox, "console", 64, "cache save kit.tar").expect(0);
    fs::remove_dir_all(sandbox.path("cache")).unwrap();
    with_open_files(&sandbox, "console", 64, "cache load kit.tar").expect(0);
    with_open_files(&sandbox, "console", 64, "cache verify").expect(0);
    with_open_files(&sandbox, "console", 64, "cache prune --keep-under 0B").expect(0);
}

#[test]
fn folders_thousands_of_levels_deep_are_in_nobodys_way() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // Deeper than a path can say, so made from the bottom up.
    let deep = |at: &str| {
        let (start, beside) = (sandbox.path(at), sandbox.path("beside"));
        let levels = "d/".repeat(1000);
        fs::create_dir_all(start.join("d")).unwrap();
        for _ in 0..3 {
            fs::create_dir_all(beside.join(&levels)).unwrap();
            fs::rename(start.join("d"), beside.join(&levels).join("d")).unwrap();
            fs::rename(&beside, start.join("d")).unwrap();
        }
    };
    deep("console/.yostel/aside");
    let gust = folder_of(&sandbox, "gust");
    deep(&format!("{gust}/foreign"));
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(told.contains("foreign"), "{told}");
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.path(&gust).join("foreign").exists() && !sandbox.path("console/.yostel/aside").exists());
    sandbox.run("console", "verify").expect(0);
    deep("made/tool/x");
    sandbox.write("made/tool/yostel.toml", "[project]\nname = \"tool\"\nversion = \"1.0.0\"\n");
    let run = sandbox.run("made/tool", "publish --to ../../station");
    assert!([0, 2].contains(&run.status) && run.stderr.len() < 2000, "{}: {}", run.status, run.stderr);
}

#[test]
fn files_of_eight_gigabytes_are_not_read_where_a_few_bytes_should_be() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let patched = sandbox.read("console/yostel.toml") + "[alter]\ngust = { patch = \"gust.patch\", why = \"so\" }\n";
    let in_cache = |below: &str| {
        let mut files: Vec<String> = sandbox.picture(&format!("cache/{below}")).into_iter().collect();
        files.retain(|line| line.contains(": "));
        format!("cache/{below}/{}", files[0].split(':').next().unwrap())
    };
    let cases: [(&str, &str, i32); 11] = [
        ("console/.yostel/inventory.json", "install", 0),
        ("console/.yostel/unfinished.json", "install", 0),
        (&in_cache("notes"), "install", 0),
        (&in_cache("projects"), "install", 0),
        (&in_cache("notes"), "cache list", 0),
        ("station/registry.json", "lock --fresh", 5),
        ("station/releases/unit.json", "lock --fresh", 5),
        ("station/releases/gust.json", "-C ../made/gust-2.1.0 publish --to ../../station", 7),
        ("console/yostel.toml", "lock", 7),
        ("console/yostel.lock", "install", 7),
        ("console/gust.patch", "lock", 2),
    ];
    for (path, words, status) in cases {
        let before = fs::read(sandbox.path(path)).ok();
        let manifest = sandbox.read("console/yostel.toml");
        if path.ends_with(".patch") {
            sandbox.write("console/yostel.toml", &patched);
        }
        fs::OpenOptions::new()
            .write(true)
            .create(true)
            .truncate(false)
            .open(sandbox.path(path))
            .unwrap()
            .set_len(8 << 30)
            .unwrap();
        let program = env!("CARGO_BIN_EXE_yostel");
        let limited = sandbox.shell("console", &format!("ulimit -v 1000000; exec {program} {words}"));
        let run = sandbox.finish(&mut { limited }).expect(status);
        assert!(status == 0 || run.stderr.contains("it is longer than"), "{path}: {}", run.stderr);
        fs::remove_file(sandbox.path(path)).ok();
        before.into_iter().for_each(|before| sandbox.write(path, before));
        sandbox.write("console/yostel.toml", manifest);
    }
    sandbox.run("console", "verify").expect(0);
}
