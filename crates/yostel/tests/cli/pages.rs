//! The pages hold what they promise: their examples are run, their definitions compared with what the program does.
//! The accident this prevents: a second implementation, written from the page, that gets other digests.

use std::fs;
use std::process::Command;

use crate::{folder_of, small_world};

fn page(name: &str) -> String {
    fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

fn block<'a>(page: &'a str, language: &str, at: usize) -> &'a str {
    page.split(&format!("```{language}\n")).nth(at + 1).unwrap().split("```").next().unwrap()
}

#[test]
fn the_shell_lines_for_a_tree_digest_give_the_locked_digest() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    sandbox.run("console", "install").expect(0);
    let formats = page("docs/formats.md");
    let script = block(&formats, "sh", 0);
    for package in ["gust", "rig", "unit"] {
        let folder = sandbox.path(&folder_of(&sandbox, package));
        let output = Command::new("sh").args(["-c", script]).current_dir(&folder).output().unwrap();
        let digest = String::from_utf8_lossy(&output.stdout).split(' ').next().unwrap().to_owned();
        let lock = sandbox.read("console/yostel.lock");
        assert!(lock.contains(&format!("tree = \"sha256:{digest}\"")), "{package}: {digest}");
        assert!(folder.to_string_lossy().ends_with(&digest[..12]), "the folder's name starts the digest");
    }
}

#[test]
fn the_seal_is_over_what_the_page_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let script = "sed '1,/^seal = /d' yostel.lock | sha256sum; printf 'console\\trun\\tgust\\t^2\\nconsole\\ttest\\trig\\t^0.9\\n' | sha256sum";
    let output = Command::new("sh").args(["-c", script]).current_dir(sandbox.path("console")).output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    let digests: Vec<&str> = told.lines().map(|line| line.split(' ').next().unwrap()).collect();
    let lock = sandbox.read("console/yostel.lock");
    assert!(lock.contains(&format!("seal = \"sha256:{}\"", digests[0])));
    assert!(lock.contains(&format!("declarations = \"sha256:{}\"", digests[1])));
}

#[test]
fn the_install_digest_is_over_what_the_page_says() {
    let sandbox = small_world();
    sandbox.run("console", "lock").expect(0);
    let told = sandbox.run("console", "install").expect(0).stdout;
    let inventory: serde_json::Value = serde_json::from_str(&sandbox.read("console/.yostel/inventory.json")).unwrap();
    let mut text = "yostel-install 1\n".to_owned();
    for package in inventory["packages"].as_array().unwrap() {
        let tree = package["tree"].as_str().unwrap().strip_prefix("sha256:").unwrap();
        text.push_str(&format!("p {tree} {}\n", package["folder"].as_str().unwrap()));
    }
    for (path, target) in inventory["links"].as_object().unwrap() {
        text.push_str(&format!("l {path} -> {}\n", target.as_str().unwrap()));
    }
    let digest = yostel_core::Seal::of(text.as_bytes()).to_string();
    assert_eq!(inventory["install"], digest);
    assert_eq!(crate::digest_of(&told), format!("  digest {digest}"));
}

#[test]
fn the_readme_s_manifest_is_one_and_its_links_lead_somewhere() {
    let readme = page("README.md");
    yostel_core::Manifest::parse(block(&readme, "toml", 0)).unwrap();
    let root = format!("{}/../..", env!("CARGO_MANIFEST_DIR"));
    for link in readme.split("](").skip(1).map(|rest| rest.split(')').next().unwrap()) {
        assert!(fs::exists(format!("{root}/{link}")).unwrap(), "{link}");
    }
}

#[test]
fn every_command_line_in_the_readme_is_understood() {
    let readme = page("README.md");
    let sandbox = small_world();
    for line in block(&readme, "sh", 1).lines() {
        let words = line
            .split('#')
            .next()
            .unwrap()
            .trim()
            .strip_prefix("yostel ")
            .unwrap()
            .replace('\'', "")
            .replace(", ", ",");
        let run = sandbox.run("", &words);
        assert!(!run.stderr.contains("Usage:"), "{line}: {}", run.stderr);
    }
}
