//! How far behind a project was, drawn: a small plot for each measure.

use yostel_answers::answers::drift::{DriftAnswer, DriftPointTold, LagTold};

use crate::render::xml::escaped;
use crate::render::{commit_of, day_of, float};

/// A plot, and what it shows in words.
pub(super) struct Plot {
    pub(super) drawing: String,
    pub(super) says: String,
}

/// Size of a plot, and where its axes are.
const WIDTH: f64 = 280.0;
const HEIGHT: f64 = 130.0;
const LEFT: f64 = 34.0;
const BOTTOM: f64 = 106.0;
const TOP: f64 = 10.0;
const RIGHT: f64 = 268.0;

type Measure = (&'static str, fn(&LagTold) -> f64, usize);

const MEASURES: [Measure; 4] = [
    ("Years", |lag| lag.years, 1),
    ("Releases", |lag| float(lag.releases), 0),
    ("Compatible lines", |lag| float(lag.lines), 0),
    ("Advisories", |lag| float(lag.advisories), 0),
];

/// Draws each measure over time; none without a history.
pub(super) fn plots(drift: &DriftAnswer) -> Vec<Plot> {
    match drift.curve.is_empty() {
        true => Vec::new(),
        false => MEASURES.iter().map(|measure| plot(drift, measure)).collect(),
    }
}

fn plot(drift: &DriftAnswer, (what, of, digits): &Measure) -> Plot {
    let values: Vec<f64> = drift.curve.iter().map(|point| of(&point.lag)).collect();
    let most = drift.points.iter().map(|point| of(&point.lag)).chain(values.iter().copied()).fold(0.0, f64::max);
    let most = most.max(1.0);
    let y = |value: f64| BOTTOM - (BOTTOM - TOP) * value / most;
    let last = float(values.len() - 1);
    let x = |step: f64| LEFT + (RIGHT - LEFT) * step / last;
    let mut path = String::new();
    for (step, value) in values.iter().enumerate() {
        let letter = if step == 0 { 'M' } else { 'L' };
        path.push_str(&format!("{letter}{:.1} {:.1}", x(float(step)), y(*value)));
    }
    let (first_day, last_day) = (day_of(&drift.curve[0].at), day_of(&drift.curve[drift.curve.len() - 1].at));
    let says = format!(
        "{what}: {:.digits$} on {first_day}, {:.digits$} on {last_day}; at most {most:.digits$}",
        values[0],
        values[values.len() - 1],
    );
    let mut drawing = format!(
        "<svg viewBox=\"0 0 {WIDTH} {HEIGHT}\" role=\"img\" aria-label=\"{}\"><path class=\"axis\" fill=\"none\" \
         d=\"M{LEFT} {TOP}V{BOTTOM}H{RIGHT}\"/><text x=\"{}\" y=\"{}\" text-anchor=\"end\">{most:.digits$}</text><text x=\"{}\" \
         y=\"{}\" text-anchor=\"end\">0</text><text x=\"{LEFT}\" y=\"{}\">{first_day}</text><text x=\"{RIGHT}\" y=\"{}\" \
         text-anchor=\"end\">{last_day}</text><path class=\"curve\" d=\"{path}\"/>",
        escaped(&says),
        LEFT - 5.0,
        TOP + 5.0,
        LEFT - 5.0,
        BOTTOM + 4.0,
        BOTTOM + 18.0,
        BOTTOM + 18.0,
    );
    for point in &drift.points {
        if let Some(at) = place_of(point, drift) {
            let value = of(&point.lag);
            let commit = commit_of(point.commit.as_deref());
            let says = format!("{} ({commit}): {value:.digits$}", day_of(&point.at));
            drawing.push_str(&format!(
                "<circle class=\"dot\" cx=\"{:.1}\" cy=\"{:.1}\" r=\"3\"><title>{}</title></circle>",
                x(at),
                y(value),
                escaped(&says)
            ));
        }
    }
    drawing.push_str("</svg>");
    Plot { drawing, says }
}

/// At which step of the curve a commit was, which may be between two.
fn place_of(point: &DriftPointTold, drift: &DriftAnswer) -> Option<f64> {
    let (first, last) = (second(&drift.curve[0].at)?, second(&drift.curve[drift.curve.len() - 1].at)?);
    let at = second(&point.at)?;
    (last > first).then(|| float(drift.curve.len() - 1) * (at - first) / (last - first))
}

fn second(time: &str) -> Option<f64> {
    let time: jiff::Timestamp = time.parse().ok()?;
    #[expect(clippy::cast_precision_loss, reason = "a place in a plot")]
    Some(time.as_second() as f64)
}
