//! Documents of packages: what is read, what is refused and where.

use super::*;

fn example() -> String {
    let digest = format!("sha256:{}", "ab".repeat(32));
    format!(
        r#"{{"format":1,"name":"gust-model","releases":[
{{"version":"2.0.0","published":"2026-05-04T09:00:00Z","needs":{{"run":{{"unit-scale":"^1"}}}},
  "artifacts":[{{"platform":"any","digest":"{digest}","size":10,"tree":"{digest}"}}]}},
{{"version":"1.0.0","published":"2026-01-04T09:00:00Z","withdrawn":{{"on":"2026-02-01T00:00:00Z","why":"bad"}},
  "artifacts":[{{"platform":"any","digest":"{digest}","size":10,"tree":"{digest}"}}],"later-field":1}}]}}"#
    )
}

fn name() -> PackageName {
    PackageName::parse("gust-model").unwrap()
}

#[test]
fn a_document_reads_sorts_and_survives_a_round_trip() {
    let document = PackageDocument::parse(&example(), &name()).unwrap();
    assert_eq!(document.releases[0].version.as_str(), "1.0.0");
    assert_eq!(document.newest().unwrap().version.as_str(), "2.0.0");
    let written = document.write();
    assert_eq!(PackageDocument::parse(&written, &name()).unwrap(), document);
    assert_eq!(PackageDocument::parse(&written, &name()).unwrap().write(), written);
}

#[test]
fn broken_documents_say_where_and_what() {
    let refused = |from: &str, to: &str| {
        let text = example().replacen(from, to, 1);
        assert_ne!(text, example(), "{from}");
        PackageDocument::parse(&text, &name()).unwrap_err().to_string()
    };
    assert_eq!(refused("\"size\":10", "\"size\":ten"), "line 3, column 125: expected ident");
    assert!(refused("\"format\":1", "\"format\":2").contains("format 2"));
    assert!(refused("\"name\":\"gust-model\"", "\"name\":\"other\"").contains("about `other`"));
    assert_eq!(refused("2.0.0", "1.0.0+x"), "`1.0.0+x` and `1.0.0` are the same version");
    assert!(refused("2.0.0", "2.0").contains("release `2.0`"));
    assert!(refused("^1", "~1").contains("different things"));
    assert!(refused("sha256:ab", "md5:ab").contains("is not a digest"));
    assert!(refused("unit-scale", "Unit").contains("cannot be a name"));
    assert!(refused("\"any\"", "\"any\\\"\\n\"").contains("a platform is `any`"));
    assert!(refused("\"any\"", "\"linux\"").contains("like `linux/amd64`"));
    assert!(PackageDocument::parse("[]", &name()).is_err());
}
