//! Documents of packages: what is read, what is refused and where, what survives.

use super::*;
use crate::name::Word;

fn digest() -> String {
    format!("sha256:{}", "ab".repeat(32))
}

fn example() -> String {
    let digest = digest();
    format!(
        r#"{{"format":1,"name":"gust-model","releases":[
{{"record":{{"version":"2.0.0","published":"2026-05-04T09:00:00Z","needs":{{"run":{{"unit-scale":"^1"}}}},
  "artifacts":[{{"platform":"any","digest":"{digest}","size":10,"tree":"{digest}"}}]}}}},
{{"record":{{"version":"1.0.0","published":"2026-01-04T09:00:00Z","later-field":1,
  "artifacts":[{{"platform":"linux/amd64","digest":"{digest}","size":10,"tree":"{digest}"}}]}},
 "statements":[{{"says":"withdrawn","on":"2026-02-01T00:00:00Z","why":"bad","until":1.50}}]}}]}}"#
    )
}

fn name() -> PackageName {
    PackageName::parse("gust-model").unwrap()
}

fn read(text: &str) -> PackageDocument {
    PackageDocument::parse(text, &name()).unwrap()
}

#[test]
fn a_document_reads_sorts_and_survives_a_round_trip() {
    let document = read(&example());
    assert_eq!(document.releases[0].version.as_str(), "1.0.0");
    assert_eq!(document.newest().unwrap().version.as_str(), "2.0.0");
    let written = document.write();
    assert!(written.contains("\"later-field\": 1") && written.contains("\"until\": 1.50"), "{written}");
    assert_eq!(read(&written).write(), written);
    for (one, other) in document.releases.iter().zip(read(&written).releases.iter()) {
        assert_eq!((one.whole().record(), one.withdrawn()), (other.whole().record(), other.withdrawn()));
    }
}

#[test]
fn a_record_is_one_however_it_is_laid_out_and_another_when_anything_in_it_is() {
    let records = |text: &str| read(text).releases.iter().map(|r| r.whole().record().unwrap()).collect::<Vec<_>>();
    let right = records(&example());
    let moved = example().replace("\"published\":\"2026-05-04T09:00:00Z\",", "").replacen(
        "\"size\":10,\"tree\"",
        " \"size\" : 10,\n\t\"tree\"",
        1,
    );
    let moved = moved.replacen("\"needs\"", "\"published\":\"2026-05-04T09:00:00\\u005a\",\"needs\"", 1);
    assert_eq!(records(&moved), right, "{moved}");
    for (from, to, at) in [
        ("\"^1\"", "\">=1, <2\"", 1),
        ("2026-05-04", "2026-05-05", 1),
        ("\"later-field\":1", "\"later-field\":2", 0),
        ("linux/amd64", "linux/arm64", 0),
    ] {
        let other = records(&example().replace(from, to));
        assert!(other[at] != right[at] && other[1 - at] == right[1 - at], "{from}");
    }
    assert_eq!(
        records(&example().replace("\"why\":\"bad\"", "\"why\":\"worse\"")),
        right,
        "a statement is no part of it"
    );
}

#[test]
fn statements_add_up_in_their_order_and_leave_the_record_alone() {
    let mut document = read(&example());
    let mut release = Release::clone(document.releases[0].whole());
    let record = release.record();
    let on = Timestamp::UNIX_EPOCH;
    let take_back = |what| Statement::TakenBack { on, why: "mended".into(), what };
    release.say(&take_back(TakenBack::Withdrawn)).unwrap();
    assert_eq!(release.withdrawn, None);
    let replaced_by = Some(PackageName::parse("gale-model").unwrap());
    release.say(&Statement::Deprecated { on, why: "old".into(), replaced_by: replaced_by.clone() }).unwrap();
    let more = Artifact { platform: "linux/arm64".into(), ..release.artifacts[0].clone() };
    release.say(&Statement::Artifact { on, artifact: more }).unwrap();
    assert_eq!((release.artifacts.len(), release.record()), (2, record));
    document.insert(release);
    let again = read(&document.write());
    let release = again.releases[0].whole();
    assert_eq!((release.deprecated.as_deref(), &release.replaced_by), (Some("old"), &replaced_by));
    assert_eq!((release.artifacts.len(), release.record(), &release.withdrawn), (2, record, &None));
    assert_eq!(again.write(), document.write());
    let mut release = Release::clone(release);
    release.say(&take_back(TakenBack::Deprecated)).unwrap();
    release.say(&Statement::Withdrawn(Withdrawal { on, why: "worse".into() })).unwrap();
    assert_eq!((release.deprecated, release.withdrawn.map(|w| w.why)), (None, Some("worse".into())));
    // What a later version says is passed over and kept.
    let later = example().replace("\"says\":\"withdrawn\"", "\"says\":\"praised\"");
    assert!(read(&later).releases[0].withdrawn().is_none() && read(&later).write().contains("praised"));
}

#[test]
fn what_is_published_is_recorded_as_it_reads() {
    let read = Release::clone(read(&example()).releases[1].whole());
    let mut made =
        Release::unpublished(read.version.clone(), read.needs.clone(), read.offers.clone(), read.artifacts.clone());
    assert_eq!(made.record(), None);
    made.published = read.published;
    assert_eq!(made.recorded().record(), read.record());
}

#[test]
fn broken_documents_say_where_and_what() {
    let refused = |from: &str, to: &str| {
        let text = example().replacen(from, to, 1);
        assert_ne!(text, example(), "{from}");
        PackageDocument::parse(&text, &name()).unwrap_err().to_string()
    };
    assert_eq!(refused("\"size\":10", "\"size\":ten"), "line 3, column 125: expected ident");
    assert_eq!(
        refused("\"size\":10", "\"size\":\"ten\""),
        "line 3, column 128: invalid type: string \"ten\", expected u64"
    );
    assert!(refused("\"format\":1", "\"format\":2").contains("format 2"));
    assert!(refused("\"name\":\"gust-model\"", "\"name\":\"other\"").contains("about `other`"));
    assert_eq!(refused("2.0.0", "1.0.0+x"), "`1.0.0+x` and `1.0.0` are the same version");
    assert!(refused("2.0.0", "2.0").contains("release `2.0`"));
    assert!(refused("^1", "~1").contains("different things"));
    assert!(refused("sha256:ab", "md5:ab").contains("is not a digest"));
    assert!(refused("unit-scale", "Unit").contains("cannot be a name"));
    assert!(refused("\"any\"", "\"any\\\"\\n\"").contains("a platform is `any`"));
    assert!(refused("\"any\"", "\"linux\"").contains("like `linux/amd64`"));
    assert!(refused("\"record\"", "\"rekord\"").contains("missing field `record`"));
    assert!(refused("\"later-field\":1", "\"later-field\":1.5").contains("not a whole one"));
    assert!(refused("\"later-field\":1", "\"later-field\":{\"a\":1,\"a\":2}").contains("is there twice"));
    assert!(refused("\"statements\"", "\"record\":{},\"statements\"").contains("is there twice"));
    assert!(refused("\"why\":\"bad\",", "").contains("missing field `why`"));
    let artifact = format!(r#"{{"platform":"linux/amd64","digest":"{0}","size":1,"tree":"{0}"}}"#, digest());
    let twice = format!(
        "{{\"says\":\"artifact\",\"on\":\"2026-02-01T00:00:00Z\",\"artifact\":{artifact}}},{{\"says\":\"withdrawn\""
    );
    assert!(refused("{\"says\":\"withdrawn\"", &twice).contains("two artifacts for platform `linux/amd64`"));
    assert!(PackageDocument::parse("[]", &name()).is_err());
    assert!(PackageDocument::parse("{\"name\":\"gust-model\"}", &name()).unwrap_err().to_string().contains("`format`"));
}

/// The accident this prevents: a document of some kilobytes that takes gigabytes or minutes to write back.
#[test]
fn what_is_nested_deep_or_listed_long_is_kept_and_costs_what_it_is_long() {
    let deep = format!("\"later\":{}{},\"releases\"", "[".repeat(20_000), "]".repeat(20_000));
    let document = read(&example().replace("\"releases\"", &deep));
    let written = document.write();
    assert!(written.len() < 100_000 && written.contains(&"[".repeat(20_000)));
    assert_eq!(read(&written).write(), written);
    let many: String = (0..200_000).map(|i| format!("\"m{i}\":1,")).collect();
    let document = read(&example().replace("\"releases\"", &format!("{many}\"releases\"")));
    assert!(document.write().contains("\"m199999\": 1"));
    let artifact = |i: usize| format!(r#"{{"platform":"linux/m{i}","digest":"{0}","size":1,"tree":"{0}"}}"#, digest());
    let says = |i: usize| format!(r#"{{"says":"artifact","on":"2026-02-01T00:00:00Z","artifact":{}}}"#, artifact(i));
    let with = |count: usize| {
        let all: Vec<String> = (0..count).map(says).collect();
        let text = example().replace("{\"says\":\"withdrawn\"", &format!("{},{{\"says\":\"withdrawn\"", all.join(",")));
        PackageDocument::parse(&text, &name())
    };
    assert_eq!(with(999).unwrap().releases[0].whole().artifacts.len(), 1000);
    assert!(with(1000).unwrap_err().to_string().contains("more than 1000 artifacts"));
}

#[test]
fn a_platform_is_two_words_of_letters_digits_and_underlines() {
    for good in ["any", "linux/amd64", "linux/x86_64", "my_os/riscv64"] {
        assert!(check_platform(good).is_ok(), "{good}");
    }
    for wrong in ["", "linux", "linux/", "/amd64", "Linux/amd64", "linux/amd-64", "linux/amd64/v2"] {
        assert!(check_platform(wrong).is_err(), "{wrong}");
    }
}

/// Of a release that has nothing beside its record, the record is read when somebody asks for it; of others, at once.
#[test]
fn a_release_is_the_same_whether_it_is_read_at_once_or_when_it_is_asked_for() {
    let digest = digest();
    let record = |version: &str, more: &str| {
        format!(
            r#"{{
      "version": "{version}", "published": "2026-05-04T09:00:00Z",{more}
      "artifacts": [
        {{"platform": "any", "digest": "{digest}", "size": 10, "tree": "{digest}"}},
        {{"platform": "linux/amd64", "digest": "{digest}", "size": 11, "tree": "{digest}"}}
      ]
    }}"#
        )
    };
    let rich = r#"
      "needs": {"run": {"unit-scale": "^1", "b/c": ">=2 on linux/*"}, "build": {}},
      "offers": {"roles": ["wind"], "programs": ["bin"], "variables": {"GUST": "lib"}, "mentions": ["a  \n  b"]},
      "licence": "MIT", "notes": "two   blanks,\ttab, \u00e9 and \"quotes\"", "identities": ["pkg:generic/gust"],
      "made-from": {"repository": "https://git.example/gust", "commit": "COMMIT", "later": 1}, "content": "DIGEST", "later": {"x": [1,  null, "  "]},"#
        .replace("DIGEST", &digest)
        .replace("COMMIT", &"a".repeat(40));
    let document = |beside: &str| {
        let entries = [record("1.0.0", ""), record("2.0.0-rc.1", &rich)]
            .map(|record| format!("{{\"record\": {record}{beside}}}"));
        read(&format!(r#"{{"format": 1, "name": "gust-model", "releases": [{}]}}"#, entries.join(",\n")))
    };
    let (when_asked, at_once) = (document(""), document(", \"later\": 1"));
    let unread = when_asked.write();
    for (one, other) in when_asked.releases.iter().zip(at_once.releases.iter()) {
        assert_eq!((&one.version, one.published, one.withdrawn()), (&other.version, other.published, None));
        assert_eq!((one.identities(), one.roles()), (other.identities(), other.roles()));
        // Asked before all of it is read, while it is packed, and after.
        let purposes = ["run", "build", "test"].map(|purpose| Word::parse(purpose).unwrap());
        let needs = purposes.each_ref().map(|purpose| one.needs(purpose));
        assert_eq!(needs, purposes.each_ref().map(|purpose| other.needs(purpose)));
        for platform in ["linux/amd64", "linux/arm64", "any"] {
            assert!(one.serves(platform) && one.whole().serves(platform) && other.serves(platform));
        }
        let mut at_once = Release::clone(other.whole());
        at_once.others.clear();
        assert_eq!(**one.whole(), at_once);
        assert_eq!(one.roles(), one.whole().offers.roles);
        assert_eq!(needs, purposes.each_ref().map(|purpose| one.needs(purpose)));
    }
    let made_from =
        when_asked.releases[0].whole().made_from.as_ref().or(when_asked.releases[1].whole().made_from.as_ref());
    assert_eq!(made_from.unwrap().commit, Some("a".repeat(40)));
    // What tells nobody anything is no reason to refuse a release.
    for (said, commit, is_told) in [("javascript:x", "a", false), ("https://git.example/gust", "main", true)] {
        let text = unread.replace("https://git.example/gust", said).replace(&"a".repeat(40), commit);
        let document = read(&text);
        let made_from = document.releases.iter().find_map(|release| release.whole().made_from.clone());
        assert_eq!(made_from.map(|made_from| made_from.commit), is_told.then_some(None));
    }
    assert_eq!(when_asked.releases[1].needs(&Word::parse("run").unwrap()).len(), 2, "they have some");
    assert_eq!(when_asked.write(), unread);
    assert_eq!(unread, at_once.write().replace(",\n      \"later\": 1\n    }", "\n    }"));
}
