//! The demo checks each of its own steps; here, that it is run as users run it.

use crate::sandbox;

#[test]
fn the_demo_ends_well_and_keeps_what_it_was_told_to_keep() {
    let sandbox = sandbox();
    let told = sandbox.run("", "demo --into world").expect(0).stdout;
    assert!(told.contains("steps ended as expected") && told.contains("not one byte differs"), "{told}");
    sandbox.run("world/console", "verify --cache ../cache").expect(0);
    sandbox.run("", "demo --into world").expect(2).says(&["world is not empty"]);
    let told = sandbox.run("", "demo --into bare --only-make").expect(0).stdout;
    assert!(told.contains("next: cd"), "{told}");
    sandbox.run("bare/console", "lock").expect(0);
    sandbox.run("bare/ropeway/libs/wind-log", "lock").expect(0);
    assert!(sandbox.path("bare/ropeway/yostel.lock").exists());
}
