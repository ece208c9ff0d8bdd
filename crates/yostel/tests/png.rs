//! `graph` as PNG, by a program that was built with it, read by a decoder that others wrote. Needs a font on the machine.
//! The accident this prevents: boxes without words, and a picture written over somebody's file.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::fs::{self, File};
use std::io::BufReader;

use png::Decoder;
use yostel_testkit::Sandbox;

/// Returns the number in an attribute of an element.
fn number(element: &str, attribute: &str) -> f64 {
    let (_, after) = element.split_once(&format!(" {attribute}=\"")).unwrap();
    after.split('"').next().unwrap().parse().unwrap()
}

#[test]
fn a_png_shows_what_the_svg_does_at_twice_the_dots() {
    let sandbox = Sandbox::new(env!("CARGO_BIN_EXE_yostel"));
    sandbox.run("", "demo --into world --only-make -q").expect(0);
    let here = "world/ropeway";
    sandbox.run(here, "lock -q").expect(0);
    sandbox.run(here, "graph needs.svg").expect(0);
    let told = sandbox.run(here, "graph needs.png").expect(0).stdout;
    assert!(told.starts_with("Wrote needs.png. ropeway/all: 3 projects, "), "{told}");

    let svg = sandbox.read(&format!("{here}/needs.svg"));
    let decoder = Decoder::new(BufReader::new(File::open(sandbox.path(&format!("{here}/needs.png"))).unwrap()));
    let mut reader = decoder.read_info().unwrap();
    let mut dots = vec![0; reader.output_buffer_size().unwrap()];
    let frame = reader.next_frame(&mut dots).unwrap();
    assert_eq!([frame.width, frame.height].map(f64::from), ["width", "height"].map(|of| 2.0 * number(&svg, of)));
    let [text] = &reader.info().uncompressed_latin1_text[..] else { panic!("one text") };
    assert_eq!((text.keyword.as_str(), text.text.as_str()), ("Software", "yostel graph"));

    // In the first box of a project: its colour, and letters, which are darker than anything else in it.
    let after = |text: &str, word: &str| text.split_once(word).unwrap().1.to_owned();
    let top: f64 = after(&svg, "<g transform=\"translate(0 ").split(')').next().unwrap().parse().unwrap();
    let rect = after(&after(&svg, "<g class=\"n p\""), "<rect");
    let [x, y, width, height] = ["x", "y", "width", "height"].map(|of| number(&rect, of));
    let dot = |column: f64, line: f64| {
        let at = (2.0 * (y + top + line)) as usize * frame.width as usize + (2.0 * (x + column)) as usize;
        [0, 1, 2, 3].map(|part| dots[4 * at + part])
    };
    assert_eq!(dot(4.0, 4.0), [0xe3, 0xec, 0xf5, 0xff]);
    let columns = (8..2 * width as usize - 8).map(|half| half as f64 / 2.0);
    let is_dark = |column: f64| (8..2 * height as usize - 8).any(|half| dot(column, half as f64 / 2.0)[0] < 0x60);
    let dark = columns.clone().filter(|column| is_dark(*column)).count();
    assert!(2 * dark > columns.clone().count(), "letters are in {dark} of {} columns", columns.count());

    // It is known again, and nothing else is taken for it.
    let first = fs::read(sandbox.path(&format!("{here}/needs.png"))).unwrap();
    sandbox.run(here, "graph needs.png").expect(0);
    assert_eq!(fs::read(sandbox.path(&format!("{here}/needs.png"))).unwrap(), first);
    sandbox.run(here, "graph needs.svg --as png").expect(2).says(&["did not write it in this form"]);
    assert_eq!(sandbox.read(&format!("{here}/needs.svg")), svg);
}
