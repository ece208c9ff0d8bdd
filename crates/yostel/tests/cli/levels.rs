//! Names with levels, everywhere they become paths.

use std::fs;

use crate::{project, publish, sandbox};

/// The accident this prevents: one package's folder inside another's, or a file where a folder must be.
#[test]
fn names_with_levels_never_meet_whatever_they_look_like() {
    let sandbox = sandbox();
    let names = ["a", "a/b", "a/b/run", "a.json/b", "a/b.patch", "a/1.0.0", "a/run", "run", "releases/a"];
    for name in names {
        let needs = if name == "a" { "\"a/b\" = \"^1\"\n\"a/run\" = \"^1\"" } else { "" };
        let program = name.replace('/', "-");
        publish(&sandbox, &format!("{name} 1.0.0"), needs, &[(&format!("bin/{program}"), "#!/bin/sh\necho $0\n")]);
    }
    let short = sandbox.read("station/releases/a.json");
    assert!(sandbox.path("station/releases/a_/b_/run.json").is_file() && !short.is_empty());
    let listed = sandbox.run("", "registry list station").expect(0).stdout;
    assert!(names.iter().all(|name| listed.contains(&format!("{name} "))), "{listed}");
    let wants = |who: &str, names: &[&str]| {
        let needs: String = names.iter().map(|name| format!("\"{name}\" = \"^1\"\n")).collect();
        format!("[project]\nname = \"{who}\"\n[needs.run]\n{needs}[needs.test]\nrun = \"^1\"\n")
    };
    // A project that is named like a level of another, with a purpose of that name.
    let root = wants("work", &names)
        + "[needs.b]\nrun = \"^1\"\n[workspace]\nprojects = [\"deep\"]\n[sources.station]\nfolder = \"../station\"\n";
    sandbox.write("work/yostel.toml", root);
    sandbox.write("work/deep/yostel.toml", wants("work/b", &names));
    for way in ["", " --whole-trees", " --self-contained"] {
        sandbox.run("work", "lock").expect(0);
        sandbox.run("work", &format!("install{way}")).expect(0);
        sandbox.run("work", "verify").expect(0);
        let again = sandbox.run("work", &format!("install{way}")).expect(0).stdout;
        assert!(again.contains("nothing to do"), "{way}: {again}");
        for name in names {
            let path = sandbox.run("work", &format!("where {name}")).expect(0).stdout;
            assert!(
                fs::metadata(format!(
                    "{}/bin/{}",
                    path.trim().replace("[SANDBOX]", &sandbox.path("").display().to_string()),
                    name.replace('/', "-")
                ))
                .is_ok(),
                "{path}"
            );
            for project in ["work", "work_/b"] {
                let link = format!("work/.yostel/reach/projects/{project}/run/{}", name.replace('/', "_/"));
                assert!(sandbox.path(&link).join("bin").is_dir(), "{link}");
            }
            sandbox.run("work", &format!("run -- {}", name.replace('/', "-"))).expect(0);
        }
        assert!(sandbox.path("work/.yostel/reach/releases/a/1.0.0/run/a_/b/bin/a-b").is_file());
    }
    for name in ["a", "a/b", "a/run"] {
        sandbox.run("work", &format!("alter {name}")).expect(0);
        sandbox.write(&format!("work/altered/{}/share/note", name.replace('/', "_/")), format!("{name}\n"));
    }
    for name in ["a", "a/b", "a/run"] {
        sandbox.run("work", &format!("alter {name} --keep --why note")).expect(0);
    }
    assert!(!sandbox.path("work/altered").exists());
    sandbox.run("work", "verify").expect(0);
    assert_eq!(sandbox.read("work/.yostel/reach/projects/work/run/a_/b/share/note"), "a/b\n");
    // What goes takes its levels with it, and nothing of what stays.
    sandbox.write("work/deep/yostel.toml", "[project]\nname = \"work/b\"\n");
    for name in ["a", "a/b/run", "a/b.patch"] {
        sandbox.run("work", &format!("remove {name}")).expect(0);
    }
    sandbox.run("work", "lock").expect(0);
    sandbox.run("work", "install").expect(0);
    sandbox.run("work", "verify").expect(0);
    assert!(sandbox.path("work/.yostel/packages/a_/b").is_dir());
    assert!(!sandbox.path("work/.yostel/packages/a_/b_").exists() && !sandbox.path("work/.yostel/packages/a").exists());
}

#[test]
fn sixty_four_levels_need_no_more_open_files_than_one() {
    let sandbox = sandbox();
    let deep = vec!["a"; 64].join("/");
    for name in [deep.as_str(), "a", "a/a"] {
        publish(&sandbox, &format!("{name} 1.0.0"), "", &[("share/note", name)]);
    }
    let needs = format!("\"{deep}\" = \"^1\"\na = \"^1\"\n\"a/a\" = \"^1\"");
    project(&sandbox, &needs, "");
    let inner = sandbox.command("console", "");
    for words in ["lock", "install", "verify"] {
        let mut command = std::process::Command::new("sh");
        command.args(["-c", "ulimit -n 48; exec \"$0\" \"$@\""]).arg(inner.get_program()).arg(words);
        command.current_dir(sandbox.path("console")).envs(inner.get_envs().filter_map(|(k, v)| Some((k, v?))));
        sandbox.finish(&mut command).expect(0);
    }
    let path = deep.replace('/', "_/");
    assert_eq!(sandbox.read(&format!("console/.yostel/reach/projects/console/run/{path}/share/note")), deep);
}
