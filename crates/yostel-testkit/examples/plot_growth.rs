//! Draws how something grows, both axes logarithmic, as SVG.
//!
//! Usage: `cargo run --release -p yostel-testkit --example plot_growth -- FILE.tsv TITLE X-AXIS Y-AXIS LINE... > out.svg`;
//! each row of the file is x and then y of each line, `nan` for none.

#![allow(clippy::unwrap_used, reason = "a tool for benches fails by panicking")]

const WIDTH: f64 = 760.0;
const HEIGHT: f64 = 420.0;
const LEFT: f64 = 70.0;
const RIGHT: f64 = 36.0;
const TOP: f64 = 50.0;
const BOTTOM: f64 = 60.0;
const COLOURS: [&str; 3] = ["#0b6e4f", "#b5651d", "#5a5a8c"];

/// From a range of powers of ten to a range of pixels.
struct Axis {
    low: f64,
    high: f64,
    from: f64,
    to: f64,
}

impl Axis {
    fn over(values: impl Iterator<Item = f64> + Clone, from: f64, to: f64) -> Self {
        let low = values.clone().fold(f64::INFINITY, f64::min).log10().floor();
        let high = values.fold(0.0, f64::max).log10().ceil();
        Self { low, high, from, to }
    }

    fn place(&self, value: f64) -> f64 {
        self.from + (value.log10() - self.low) / (self.high - self.low) * (self.to - self.from)
    }

    fn ticks(&self) -> impl Iterator<Item = f64> {
        (self.low as i32..=self.high as i32).map(|power| 10f64.powi(power))
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [file, title, x_label, y_label, lines @ ..] = &arguments[..] else { panic!("see the usage above the code") };
    let text = std::fs::read_to_string(file).unwrap();
    let rows: Vec<Vec<f64>> =
        text.lines().map(|line| line.split('\t').map(|field| field.parse().unwrap()).collect()).collect();
    let known = rows.iter().flat_map(|row| row[1..=lines.len()].iter().copied()).filter(|y| y.is_finite());
    let x = Axis::over(rows.iter().map(|row| row[0]), LEFT, WIDTH - RIGHT);
    let y = Axis::over(known, HEIGHT - BOTTOM, TOP);
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" font-family=\"sans-serif\" font-size=\"13\">\n\
         <rect width=\"{WIDTH}\" height=\"{HEIGHT}\" fill=\"white\"/>\n\
         <text x=\"{LEFT}\" y=\"24\" font-size=\"16\">{}</text>\n",
        escaped(title)
    );
    for tick in x.ticks() {
        let at = x.place(tick);
        svg.push_str(&format!(
            "<path d=\"M{at:.1} {TOP}V{:.1}\" stroke=\"#ddd\"/><text x=\"{at:.1}\" y=\"{:.1}\" text-anchor=\"middle\">{tick}</text>\n",
            HEIGHT - BOTTOM,
            HEIGHT - BOTTOM + 18.0
        ));
    }
    for tick in y.ticks() {
        let at = y.place(tick);
        svg.push_str(&format!(
            "<path d=\"M{LEFT} {at:.1}H{:.1}\" stroke=\"#ddd\"/><text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"end\">{tick}</text>\n",
            WIDTH - RIGHT,
            LEFT - 8.0,
            at + 4.0
        ));
    }
    svg.push_str(&format!(
        "<text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"middle\">{}</text>\n<text transform=\"translate(18 {:.1}) rotate(-90)\" text-anchor=\"middle\">{}</text>\n",
        (LEFT + WIDTH - RIGHT) / 2.0,
        HEIGHT - 16.0,
        escaped(x_label),
        (TOP + HEIGHT - BOTTOM) / 2.0,
        escaped(y_label)
    ));
    for (number, name) in lines.iter().enumerate() {
        let colour = COLOURS[number % COLOURS.len()];
        let points: Vec<(f64, f64)> = rows
            .iter()
            .filter(|row| row[number + 1].is_finite())
            .map(|row| (x.place(row[0]), y.place(row[number + 1])))
            .collect();
        let path: Vec<String> = points.iter().map(|(x, y)| format!("{x:.1},{y:.1}")).collect();
        svg.push_str(&format!(
            "<polyline points=\"{}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"2\"/>\n",
            path.join(" ")
        ));
        for (x, y) in &points {
            svg.push_str(&format!("<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"3.5\" fill=\"{colour}\"/>\n"));
        }
        let down = TOP + 18.0 * (number + 1) as f64;
        svg.push_str(&format!(
            "<path d=\"M{:.1} {down:.1}h22\" stroke=\"{colour}\" stroke-width=\"2\"/><text x=\"{:.1}\" y=\"{:.1}\">{}</text>\n",
            LEFT + 14.0,
            LEFT + 42.0,
            down + 4.0,
            escaped(name)
        ));
    }
    svg.push_str("</svg>\n");
    print!("{svg}");
}
