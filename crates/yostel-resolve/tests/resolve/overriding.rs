//! What a project says wherever packages turn up: forced, agreed, swapped, roles, lines.

use yostel_documents::{Overrides, PackageName};
use yostel_resolve::{LinesApart, Minimality, Outcome, RoleClash};
use yostel_testkit::World;
use yostel_versions::ConstraintText;

#[test]
fn a_forced_version_an_agreement_and_a_stand_in_count_for_everyone() {
    let world = World::parse(
        "console: cabin ^1, rope *, logger ^1
         cabin 1.0.0: rope ^3.3, old ^1
         rope 3.2.7
         rope 3.3.0
         rope 3.4.0
         old 1.0.0: rope ^3
         logger 1.0.0: old *
         plain 2.0.0
         plain 3.0.0",
    );
    let chosen = |overrides: Overrides| {
        let mut problem = world.problem(&[]);
        problem.rules.overrides = overrides;
        match world.resolve_with(problem, |answers| answers).unwrap() {
            Outcome::Resolved(resolution) => {
                let chosen =
                    resolution.chosen.iter().map(|(name, choice)| format!("{name} {}", choice.release.version));
                chosen.collect::<Vec<_>>().join(", ")
            }
            Outcome::Collision(collision) => {
                format!("{:?}", collision.facts.iter().map(|f| f.accept.as_str()).collect::<Vec<_>>())
            }
            Outcome::Stopped(_) => panic!("nobody said stop"),
        }
    };
    let name = |text: &str| PackageName::parse(text).unwrap();
    let accept = |text: &str| ConstraintText::parse(text).unwrap();
    assert_eq!(chosen(Overrides::default()), "cabin 1.0.0, logger 1.0.0, old 1.0.0, rope 3.4.0");
    let forced = Overrides { forced: [(name("rope"), accept("=3.2.7"))].into(), ..Overrides::default() };
    assert_eq!(chosen(forced), "cabin 1.0.0, logger 1.0.0, old 1.0.0, rope 3.2.7");
    let agreed = Overrides { agreed: [(name("rope"), accept("<3.4"))].into(), ..Overrides::default() };
    assert_eq!(chosen(agreed), "cabin 1.0.0, logger 1.0.0, old 1.0.0, rope 3.3.0");
    let swapped = [(name("old"), (name("plain"), Some(accept("^2"))))].into();
    let swapped = Overrides { swapped, ..Overrides::default() };
    assert_eq!(chosen(swapped.clone()), "cabin 1.0.0, logger 1.0.0, plain 2.0.0, rope 3.4.0");
    let outside = Overrides { agreed: [(name("rope"), accept("<3.3"))].into(), ..swapped };
    assert_eq!(chosen(outside), "[\"^3.3, <3.3\"]", "who asks for more than is agreed is told");
}

#[test]
fn two_packages_never_fill_one_role_unless_that_is_permitted() {
    let text = "console: cabin *, report *
         cabin 1.0.0: plain *
         report 1.0.0: old *
         report 1.1.0: old ^2
         plain 1.0.0 role=logger
         old 1.0.0
         old 2.0.0 role=logger";
    let world = World::parse(text);
    // The newest that leaves the role to one is found.
    assert_eq!(world.outcome(&[]), "cabin 1.0.0, old 1.0.0, plain 1.0.0, report 1.0.0");
    assert_eq!(world.outcome(&["old 2.0.0", "report 1.1.0"]), "cabin 1.0.0, old 1.0.0, plain 1.0.0, report 1.0.0");
    let world = World::parse(&text.replace("report 1.0.0: old *", "report 1.0.0: old ^2"));
    let Outcome::Collision(collision) = world.resolve(&[]).unwrap() else { panic!() };
    let [RoleClash { role, one, other }] = &collision.roles[..] else { panic!("{:?}", collision.roles) };
    assert_eq!((role.as_str(), one.as_str(), other.as_str()), ("logger", "old", "plain"));
    assert!(
        collision.minimal == Minimality::Shown && collision.requirements.len() == 2 && collision.facts.len() == 2,
        "{collision:?}"
    );
    let mut problem = world.problem(&[]);
    problem.rules.shared_roles.insert(role.clone());
    assert!(matches!(world.resolve_with(problem, |answers| answers), Ok(Outcome::Resolved(_))));
}

#[test]
fn a_collision_of_two_lines_is_told_as_one_and_by_which_position() {
    let collision = |text: &str| match World::parse(text).resolve(&[]).unwrap() {
        Outcome::Collision(collision) => collision.lines,
        other => panic!("{other:?}"),
    };
    let told = collision("console: a *, b *\na 1.0.0: rope ^2\nb 1.0.0: rope ^3\nrope 2.1.0\nrope 3.0.0");
    let [LinesApart { package, lines, breaks_at }] = &told[..] else { panic!("{told:?}") };
    assert_eq!((package.as_str(), lines.join(" "), *breaks_at), ("rope", "2.x 3.x".to_owned(), 1));
    let told = collision("console: a *, b *\na 1.0.0: rope ^0.9\nb 1.0.0: rope ^0.10\nrope 0.9.1\nrope 0.10.0");
    assert_eq!((told[0].lines.join(" "), told[0].breaks_at), ("0.9.x 0.10.x".to_owned(), 2));
    let told = collision("console: a ^1, b *\nb 1.0.0: a ^2\na 1.0.0\na 2.0.0");
    assert_eq!(told[0].lines.join(" "), "1.x 2.x", "a need against a release");
    // One line, and still nothing in common; and releases of one package that changed their author's mind.
    let same = "console: a *, b *\na 1.0.0: rope =2.0.0\nb 1.0.0: rope ^2.1\nrope 2.0.0\nrope 2.1.0";
    assert_eq!(collision(same), []);
    let mind = "console: a *, b *\na 1.0.0: rope ^2\na 2.0.0: rope ^3\nb 1.0.0 role=one\nrope 2.0.0 role=one\nrope 3.0.0 role=one";
    assert_eq!(collision(mind), []);
}
