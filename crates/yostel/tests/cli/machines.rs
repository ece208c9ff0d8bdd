//! Machines as they are: other users, masks, read-only folders, odd paths, killed runs; and what a package may do to its neighbours.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;

use crate::{folder_of, project, publish, sandbox, small_world, tamper};

#[test]
fn what_a_killed_run_leaves_is_removed_by_the_next_and_never_packed() {
    let sandbox = small_world();
    for left in [
        "console/.yostel.lock.yostel-new",
        "console/.yostel.toml.yostel-new",
        "station/releases/.unit.json.yostel-new",
        "station/archives/sha256/.archive.yostel-new",
        "made/rig-0.9.0/.yostel.toml.yostel-new",
    ] {
        sandbox.write(left, "half");
    }
    sandbox.run("console", "lock").expect(0);
    assert!(!sandbox.path("console/.yostel.lock.yostel-new").exists());
    assert!(!sandbox.path("console/.yostel.toml.yostel-new").exists());
    sandbox.write("made/rig-0.9.0/other/.yostel.lock.yostel-new", "half");
    sandbox.write("made/rig-0.9.0/yostel.toml", "[project]\nname = \"rig\"\nversion = \"0.9.1\"\n");
    sandbox.run("made/rig-0.9.0", "publish --to ../../station").expect(0);
    assert!(!sandbox.path("station/releases/.unit.json.yostel-new").exists());
    assert!(!sandbox.path("station/archives/sha256/.archive.yostel-new").exists());
    sandbox.run("console", "lock --fresh").expect(0);
    sandbox.run("console", "install").expect(0);
    let folder = folder_of(&sandbox, "rig");
    assert!(!sandbox.picture(&folder).iter().any(|line| line.contains("yostel-new")));
    sandbox.write("console/.yostel/.inventory.json.yostel-new", "half");
    sandbox.write("cache/projects/.x.json.yostel-new", "half");
    tamper(&sandbox, &format!("{folder}/share/a"), "b");
    sandbox.run("console", "install").expect(0);
    assert!(!sandbox.path("console/.yostel/.inventory.json.yostel-new").exists());
    assert!(!sandbox.path("cache/projects/.x.json.yostel-new").exists());
    assert!(!sandbox.path("console/.yostel/unfinished.json").exists());
}

#[test]
fn a_project_whose_path_holds_a_colon_says_so_instead_of_losing_its_programs() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for folder in ["a:b", "a\nb"] {
        sandbox.write(
            &format!("{folder}/console/yostel.toml"),
            sandbox.read("console/yostel.toml").replace("../station", "../../station"),
        );
        sandbox.write(&format!("{folder}/console/yostel.lock"), sandbox.read("console/yostel.lock"));
        sandbox.run(&format!("{folder}/console"), "install").expect(0);
        sandbox.run(&format!("{folder}/console"), "verify").expect(0);
    }
    for words in ["run -- gust-now", "env"] {
        sandbox.run("a:b/console", words).expect(2).says(&["holds `:`", "move the project to a folder without"]);
        sandbox.run("a\nb/console", words).expect(0);
    }
}

#[test]
fn a_cache_that_may_only_be_read_serves_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.write("second/yostel.toml", sandbox.read("console/yostel.toml"));
    sandbox.write("second/yostel.lock", sandbox.read("console/yostel.lock"));
    // A mount of its own, read-only even for who may do everything; not every machine permits that.
    let line = "mount --bind ../cache ../cache && mount -o remount,bind,ro ../cache && exec yostel install";
    let mut command = Command::new("unshare");
    let inner = sandbox.shell("second", line);
    command.args(["--mount", "--map-root-user", "sh", "-c", line]).current_dir(sandbox.path("second")).env_clear();
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let Ok(output) = command.output() else { return };
    let (told, error) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    if !output.status.success() && (error.contains("mount") || error.contains("unshare")) {
        eprintln!("skipped: {error}");
        return;
    }
    assert!(output.status.success(), "{told}{error}");
    assert!(told.contains("the cache cannot note this install"), "{told}");
    sandbox.run("second", "verify").expect(0);
}

#[test]
fn modes_in_the_cache_do_not_depend_on_the_mask() {
    let mut seen = Vec::new();
    for mask in ["000", "027", "077"] {
        let sandbox = small_world();
        sandbox.run("console", "lock").expect(0);
        sandbox.finish(&mut sandbox.shell("console", &format!("umask {mask} && exec yostel install"))).expect(0);
        let mut modes = Vec::new();
        let mut open = vec![sandbox.path("cache")];
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                let metadata = path.symlink_metadata().unwrap();
                let below = path.strip_prefix(sandbox.path("cache")).unwrap().display().to_string();
                // The names of records tell of the project's folder.
                if !below.starts_with("projects/") && !below.starts_with("journal/") {
                    modes.push((below, metadata.permissions().mode() & 0o7777));
                }
                if metadata.is_dir() {
                    open.push(path);
                }
            }
        }
        modes.sort();
        seen.push(modes);
    }
    assert!(seen.windows(2).all(|pair| pair[0] == pair[1]), "{seen:?}");
    assert!(seen[0].len() > 20);
}

#[test]
fn a_look_at_the_cache_beside_a_prune_raises_no_alarm() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    for _ in 0..8 {
        sandbox.run("console", "install").expect(0);
        fs::remove_dir_all(sandbox.path("console/.yostel")).unwrap();
        fs::remove_dir_all(sandbox.path("cache/projects")).unwrap();
        let spawn = |words: &str| {
            let mut command = sandbox.command("", words);
            command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap()
        };
        let looks: Vec<_> =
            ["cache verify", "cache prune --keep-under 0B", "cache list", "cache stats", "cache verify"]
                .map(spawn)
                .into();
        for look in looks {
            let output = look.wait_with_output().unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        }
    }
}

#[test]
fn what_came_along_gives_no_program_and_no_variable_that_loads_code() {
    let sandbox = sandbox();
    let package = |name: &str, needs: &str, offers: &str, program: &str, says: &str| {
        let manifest = format!(
            "[project]\nname = \"{name}\"\nversion = \"1.0.0\"\n[needs.run]\n{needs}\n[offers]\nprograms = [\"bin\"]\n{offers}\n"
        );
        let folder = format!("made/{name}");
        sandbox.write(&format!("{folder}/yostel.toml"), manifest);
        sandbox.write(&format!("{folder}/bin/{program}"), format!("#!/bin/sh\n{says}\n"));
        let path = sandbox.path(&format!("{folder}/bin/{program}"));
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        sandbox.run(&folder, "publish --to ../../station").expect(0);
    };
    package("deep", "", "", "ls", "echo the ls of deep");
    package("scale", "", "variables = { SCALE = \"bin\" }", "scale-now", "echo scale \"$@\"");
    package("gust", "scale = '^1'\ndeep = '^1'", "", "gust-now", "echo gust $(scale-now \"$1\") and $(ls)");
    package("tower", "gust = '^1'", "", "tower-now", "echo tower of $(gust-now \"$1\"); command -v scale-now; exit 3");
    project(&sandbox, "tower = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    // What the project needs itself is there, and finds what it needs; nothing else is on the path.
    let run = sandbox.run("console", "run -- tower-now '7 8'").expect(3);
    assert!(run.stdout.starts_with("tower of gust scale '7 and the ls of deep\n"), "{}", run.stdout);
    assert!(!run.stdout.contains("/scale-now"), "what a need needs is not a need: {}", run.stdout);
    for program in ["gust-now", "scale-now"] {
        sandbox.run("console", &format!("run -- {program}")).expect(2).says(&["cannot be run"]);
    }
    let real = sandbox.finish(&mut sandbox.shell("console", "yostel run -- sh -c 'ls /'")).expect(0).stdout;
    assert!(!real.contains("deep") && real.contains("tmp"), "{real}");
    // Variables of what came along stay.
    let told = sandbox.run("console", "env").expect(0).stdout;
    assert!(told.contains("export SCALE=") && told.contains("launch/tower/1.0.0"), "{told}");
    sandbox.run("console", "verify").expect(0);
    let state = sandbox.picture("console/.yostel");
    assert!(!state.iter().any(|line| line.starts_with("launch") && line.contains("SANDBOX")), "{state:?}");
    // A launcher that somebody changed is made again.
    tamper(&sandbox, "console/.yostel/launch/tower/1.0.0/tower-now", "#!/bin/sh\necho evil\n");
    sandbox.run("console", "run -- tower-now 1").expect(3);
    // A program of the project's own choice may come before one of the machine, which is told.
    project(&sandbox, "deep = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let run = sandbox.run("console", "run -- ls").expect(0);
    assert_eq!(run.stdout, "the ls of deep\n");
    run.says(&["`ls` is that of deep 1.0.0, which comes before /"]);
    assert_eq!(sandbox.run("console", "-q run -- ls").expect(0).stderr, "");
    for variable in ["LD_PRELOAD", "BASH_ENV", "HOME", "IFS", "GIT_SSH_COMMAND", "YOSTEL_CACHE", "PYTHONSTARTUP"] {
        let name = format!("evil-{}", variable.to_lowercase().replace('_', "-"));
        package(&name, "", &format!("variables = {{ {variable} = \"bin\" }}"), "x", "true");
        publish(&sandbox, &format!("through-{name} 1.0.0"), &format!("{name} = '^1'"), &[]);
        project(&sandbox, &format!("through-{name} = \"^1\""), "");
        sandbox.run("console", "lock").expect(0);
        sandbox.run("console", "install").expect(0);
        let run = sandbox.run("console", "run -- true").expect(2);
        run.says(&[&format!("{name} 1.0.0 offers {variable}"), &format!("trusted-variables = [\"{name}\"]")]);
        let manifest = sandbox.read("console/yostel.toml");
        sandbox.write("console/yostel.toml", format!("{manifest}\n[policy]\ntrusted-variables = [\"{name}\"]\n"));
        assert!(sandbox.run("console", "env").expect(0).stdout.contains(&format!("export {variable}=")));
    }
}

#[test]
fn launchers_find_their_way_whatever_a_package_is_called_and_however_many_ask_at_once() {
    let sandbox = sandbox();
    publish(&sandbox, "tool 1.0.0", "", &[("bin/tool", "#!/bin/sh\necho tool \"$@\"\n")]);
    let names: Vec<String> = (0..60).map(|number| format!("bin/launch{number}")).collect();
    let programs: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "#!/bin/sh\ntool of launch\n")).collect();
    // Its folder of launchers is `launch/launch`, and that of the other `launch/launch+launch`.
    publish(&sandbox, "launch 1.0.0", "tool = '^1'", &programs);
    publish(&sandbox, "launch/launch 1.0.0", "tool = '^1'", &[("bin/launch", "#!/bin/sh\ntool of both\n")]);
    project(&sandbox, "launch = \"^1\"\n\"launch/launch\" = \"^1\"", "");
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    for (program, says) in [("launch", "tool of both\n"), ("launch59", "tool of launch\n")] {
        assert_eq!(sandbox.run("console", &format!("run -- {program}")).expect(0).stdout, says);
    }
    for _ in 0..5 {
        fs::remove_dir_all(sandbox.path("console/.yostel/launch")).unwrap();
        // One that was killed while it wrote.
        sandbox.write("console/.yostel/launch/launch/1.0.0/.launch7.yostel-new", "#!/bin/sh\n");
        let mut runs: Vec<_> = (0..8)
            .map(|_| sandbox.command("console", "run -- launch7").stdout(std::process::Stdio::piped()).spawn().unwrap())
            .collect();
        for run in runs.drain(..) {
            let output = run.wait_with_output().unwrap();
            assert!(output.status.success() && output.stdout == b"tool of launch\n", "{output:?}");
        }
        assert!(!sandbox.path("console/.yostel/launch/launch/1.0.0/.launch7.yostel-new").exists());
    }
    // One that was damaged is put right.
    let launcher = sandbox.path("console/.yostel/launch/launch/1.0.0/launch7");
    fs::set_permissions(&launcher, fs::Permissions::from_mode(0o644)).unwrap();
    sandbox.run("console", "run -- launch7").expect(0);
}

#[test]
fn what_stands_where_a_file_is_written_aside_is_replaced_or_named() {
    let sandbox = small_world();
    let aside = sandbox.path("console/.yostel.lock.yostel-new");
    let fifo = || assert!(Command::new("mkfifo").arg(&aside).status().unwrap().success());
    let closed = || {
        fs::write(&aside, "of one that was killed").unwrap();
        fs::set_permissions(&aside, fs::Permissions::from_mode(0o444)).unwrap();
    };
    let link = || symlink("/etc/hostname", &aside).unwrap();
    for put in [&fifo as &dyn Fn(), &closed, &link] {
        fs::remove_file(sandbox.path("console/yostel.lock")).ok();
        put();
        sandbox.run("console", "lock").expect(0);
        assert!(!aside.exists());
    }
    fs::remove_file(sandbox.path("console/yostel.lock")).unwrap();
    fs::create_dir(&aside).unwrap();
    sandbox.run("console", "lock").expect(7).says(&[".yostel.lock.yostel-new", "Is a directory"]);
    assert!(!sandbox.path("console/yostel.lock").exists());
}

#[test]
fn a_path_with_a_line_break_quotes_and_blanks_is_a_path() {
    let sandbox = small_world();
    let name = "a\n b'\"$(touch evil)`touch evil`\\é";
    fs::rename(sandbox.path("console"), sandbox.path(name)).unwrap();
    for words in ["lock", "install", "verify", "list", "alter gust", "alter gust --drop", "cache list", "tree"] {
        let run = sandbox.run(name, words).expect(0);
        assert!(!run.stdout.contains("a\n b"), "{words}: {}", run.stdout);
    }
    assert!(sandbox.run(name, "run -- gust-now").expect(0).stdout.starts_with("gust 2.1.0"));
    let told = sandbox.finish(&mut sandbox.shell(name, "eval \"$(yostel env)\"; gust-now")).expect(0).stdout;
    assert!(told.starts_with("gust 2.1.0"), "{told}");
    assert!(!sandbox.path(name).join("evil").exists() && !sandbox.path("evil").exists());
}

#[test]
fn a_file_system_that_runs_no_programs_holds_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let script = "mount -t tmpfs -o noexec tmpfs ../other || exit 99
        cp -r . ../other && cd ../other && sed -i 's|../station|'$OLDPWD'/../station|' yostel.toml || exit 98
        $YOSTEL install && $YOSTEL verify && $YOSTEL install --quick || exit 97
        $YOSTEL run -- gust-now";
    fs::create_dir(sandbox.path("other")).unwrap();
    let mut command = Command::new("unshare");
    command.args(["--user", "--map-root-user", "--mount", "sh", "-c", script]).current_dir(sandbox.path("console"));
    let inner = sandbox.command("console", "");
    command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let run = sandbox.finish(command.env("YOSTEL", inner.get_program()));
    if run.status == 99 || run.stderr.contains("unshare failed") {
        eprintln!("skipped: this machine allows no mounts of one's own");
        return;
    }
    run.expect(2).says(&["gust-now", "Permission denied", "next:"]);
}

#[test]
fn a_cache_of_another_user_serves_an_install() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let mine = ["theirs/home", "theirs/console"];
    mine.iter().for_each(|folder| fs::create_dir_all(sandbox.path(folder)).unwrap());
    for file in ["yostel.toml", "yostel.lock"] {
        let text = sandbox.read(&format!("console/{file}")).replace("../station", "../../station");
        sandbox.write(&format!("theirs/console/{file}"), text);
    }
    fs::set_permissions(sandbox.path(""), fs::Permissions::from_mode(0o755)).unwrap();
    let given = Command::new("chown").args(["-R", "65534:65534"]).arg(sandbox.path("theirs")).output();
    if !given.is_ok_and(|output| output.status.success()) {
        eprintln!("skipped: only root can be another user");
        return;
    }
    let as_other = |words: &str| {
        let inner = sandbox.command("theirs/console", words);
        let mut command = Command::new("setpriv");
        command.args(["--reuid", "65534", "--regid", "65534", "--clear-groups"]).arg(sandbox.path("yostel"));
        command.args(inner.get_args()).current_dir(sandbox.path("theirs/console")).env_clear();
        command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
        sandbox.finish(command.env("HOME", sandbox.path("theirs/home")))
    };
    // Where the tests are built, not everybody may look.
    fs::copy(env!("CARGO_BIN_EXE_yostel"), sandbox.path("yostel")).unwrap();
    let before = sandbox.picture("cache");
    let run = as_other("install").expect(0);
    assert!(
        run.stdout.contains("Installed 3 packages") && run.stdout.contains("the cache cannot note this install"),
        "{}",
        run.stdout
    );
    as_other("verify").expect(0);
    as_other("cache verify").expect(0);
    assert!(as_other("run -- gust-now").expect(0).stdout.starts_with("gust 2.1.0"));
    as_other("cache prune --keep-under 0B").expect(7).says(&["next:"]);
    assert_eq!(sandbox.picture("cache"), before);
    // What the other user made is taken as it is, and no better.
    let file = sandbox
        .path("theirs/console")
        .join(folder_of(&sandbox, "gust").trim_start_matches("console/"))
        .join("bin/gust-now");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o755)).unwrap();
    fs::write(&file, "other").unwrap();
    sandbox.run("theirs/console", "verify").expect(4);
    sandbox.run("theirs/console", "install").expect(0);
    sandbox.run("theirs/console", "verify").expect(0);
}

/// The accident this prevents: 400 MB of other people's packages in a commit.
#[test]
fn what_is_installed_is_nothing_for_version_control_unless_somebody_says_so() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let status = "git init -q . && git status --porcelain --untracked-files=all";
    let told = sandbox.finish(&mut sandbox.shell("console", status)).expect(0).stdout;
    assert_eq!(told, "?? yostel.lock\n?? yostel.toml\n");
    // Whoever wants it otherwise is not overruled.
    sandbox.write("console/.yostel/.gitignore", "");
    sandbox.run("console", "remove rig").expect(0);
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    sandbox.run("console", "verify").expect(0);
    assert_eq!(sandbox.read("console/.yostel/.gitignore"), "");
}

/// The accident this prevents: advice that is followed again and again and changes nothing.
#[test]
fn what_no_install_made_is_named_and_left_to_whoever_put_it_there() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    fs::create_dir(sandbox.path("console/.yostel/packages/stray")).unwrap();
    sandbox.write("console/.yostel/packages/note", "mine");
    for words in ["verify", "verify --put-back"] {
        let told = sandbox.run("console", words).expect(4).stdout;
        for line in [
            "  .yostel  extra  packages/stray\n",
            "  .yostel  extra  packages/note\n",
            "next: remove .yostel/packages/note and .yostel/packages/stray, which no install made\n",
        ] {
            assert!(told.contains(line), "{line} in {told}");
        }
    }
    fs::remove_file(sandbox.path("console/.yostel/reach/projects/console/run/gust")).unwrap();
    let told = sandbox.run("console", "verify").expect(4).stdout;
    assert!(
        told.contains("next: yostel verify --put-back, to put back what is locked\n  or: remove .yostel/"),
        "{told}"
    );
    let told = sandbox.run("console", "verify --put-back").expect(4).stdout;
    assert!(told.starts_with("2 files are not") && told.contains("\nnext: remove .yostel/packages/note"), "{told}");
    fs::remove_file(sandbox.path("console/.yostel/packages/note")).unwrap();
    fs::remove_dir(sandbox.path("console/.yostel/packages/stray")).unwrap();
    sandbox.run("console", "verify").expect(0);
}
