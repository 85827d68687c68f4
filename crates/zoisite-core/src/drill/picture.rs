//! A drill as a time line: lanes for people at a terminal and for a picture alike, and the picture as SVG.

use std::fmt::Write as _;

use super::measured::{Measured, SLOW, duration};

/// How something was for a while.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Patch {
    /// A request that was answered in time.
    Answered,
    /// One that was answered late.
    Slow,
    /// One that was not answered.
    Failed,
    /// A state that is as it should be.
    Well,
    /// One that is not.
    Ill,
}

/// A line of the time line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lane {
    /// What it is about.
    pub title: String,
    /// From when to when, in milliseconds from the loss; how it was, and its name if it has one.
    pub patches: Vec<(i64, i64, Patch, String)>,
}

/// The lanes of a drill: requests by kind, then what was watched.
pub fn lanes(measured: &Measured) -> Vec<Lane> {
    let (_, end) = measured.span();
    let requests = measured.sums().into_iter().map(|sum| Lane {
        title: sum.ask.word().to_owned(),
        patches: measured
            .asked
            .iter()
            .filter(|asked| asked.ask == sum.ask)
            .map(|asked| {
                let patch = match (&asked.fault, asked.took) {
                    (Some(_), _) => Patch::Failed,
                    (None, took) if took > SLOW => Patch::Slow,
                    (None, _) => Patch::Answered,
                };
                (asked.at, asked.at + asked.took, patch, String::new())
            })
            .collect(),
    });
    let mut out: Vec<Lane> = requests.collect();
    let mut seen = Vec::new();
    for change in &measured.changes {
        if !seen.contains(&&change.of) {
            seen.push(&change.of);
        }
    }
    for of in seen {
        let own: Vec<_> = measured.changes.iter().filter(|change| change.of == *of).collect();
        let patches = own.iter().enumerate().map(|(i, change)| {
            let until = own.get(i + 1).map_or(end, |next| next.at);
            let ill = change.is.is_empty() || change.is.starts_with("not ");
            let patch = if ill { Patch::Ill } else { Patch::Well };
            let name = if change.is.is_empty() { "none".into() } else { change.is.clone() };
            (change.at, until, patch, name)
        });
        out.push(Lane { title: of.title(), patches: patches.collect() });
    }
    out
}

const WIDTH: i64 = 1_180;
const LEFT: i64 = 150;
const RIGHT: i64 = 30;
const TOP: i64 = 96;
const LANE: i64 = 40;

fn colour(patch: Patch) -> &'static str {
    match patch {
        Patch::Answered => "#3a8f5c",
        Patch::Slow => "#d9a21b",
        Patch::Failed => "#c63d3d",
        Patch::Well => "#cfe3ee",
        Patch::Ill => "#f0cfcf",
    }
}

/// Text inside XML (XML 1.0, section 2.4).
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The time line as SVG 1.1.
pub fn picture(measured: &Measured, cluster: &str) -> String {
    let (begin, end) = measured.span();
    let lanes = lanes(measured);
    let room = WIDTH - LEFT - RIGHT;
    let x = |at: i64| LEFT + (at.clamp(begin, end) - begin) * room / (end - begin).max(1);
    let moments = measured.moments();
    let foot = TOP + LANE * i64::try_from(lanes.len()).unwrap_or(0);
    let height = foot + 64 + 20 * i64::try_from(moments.len()).unwrap_or(0);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH}\" height=\"{height}\" viewBox=\"0 0 {WIDTH} {height}\" \
         font-family=\"DejaVu Sans, Liberation Sans, sans-serif\" font-size=\"13\" fill=\"#22303a\">\n\
         <rect width=\"{WIDTH}\" height=\"{height}\" fill=\"#ffffff\"/>\n"
    );
    let text = |x: i64, y: i64, more: &str, words: &str| {
        format!("<text x=\"{x}\" y=\"{y}\"{more}>{}</text>\n", escaped(words))
    };
    let head = format!("{cluster} · {}", measured.drill.title());
    out.push_str(&text(20, 32, " font-size=\"19\" font-weight=\"bold\"", &head));
    let under = format!(
        "{} · longest time without an answer {}",
        measured.began.strftime("%Y-%m-%d %H:%M UTC"),
        duration(measured.longest_gap())
    );
    out.push_str(&text(20, 56, " fill=\"#5a6a75\"", &under));
    // While it was lost.
    let (from, until) = (x(0), x(measured.fixed.unwrap_or(end)));
    let _ = writeln!(
        out,
        "<rect x=\"{from}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"#fbf1df\"/>",
        TOP - 12,
        (until - from).max(1),
        foot - TOP + 12
    );
    for (i, lane) in lanes.iter().enumerate() {
        let y = TOP + LANE * i64::try_from(i).unwrap_or(0);
        out.push_str(&text(20, y + 18, "", &lane.title));
        for (from, until, patch, name) in &lane.patches {
            let (left, right) = (x(*from), x(*until));
            let is_state = matches!(patch, Patch::Well | Patch::Ill);
            // Requests are slim, so that one that waits is seen between those that are answered.
            let least = if is_state { 1 } else { 3 };
            let _ = writeln!(
                out,
                "<rect x=\"{left}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"{}\"{}/>",
                y + if is_state { 2 } else { 5 },
                (right - left).max(least),
                if is_state { 24 } else { 18 },
                colour(*patch),
                if is_state { " stroke=\"#ffffff\"" } else { " fill-opacity=\"0.75\"" }
            );
            // A name that has no room stands among the moments.
            let needs = 8 * i64::try_from(name.chars().count()).unwrap_or(i64::MAX / 8) + 12;
            if is_state && right - left >= needs {
                out.push_str(&text(left + 6, y + 19, "", name));
            }
        }
    }
    // A scale in steps that leave room for their words.
    let step = [1_000, 2_000, 5_000, 10_000, 20_000, 30_000, 60_000, 120_000, 300_000, 600_000];
    let step = step.into_iter().find(|step| (end - begin) / step <= 14).unwrap_or(600_000);
    let first = begin.div_euclid(step) * step;
    for at in (0..).map(|i| first + i * step).take_while(|at| *at <= end).filter(|at| *at >= begin)
    {
        let place = x(at);
        let _ = writeln!(
            out,
            "<line x1=\"{place}\" y1=\"{}\" x2=\"{place}\" y2=\"{foot}\" stroke=\"#8795a1\" stroke-opacity=\"0.35\"/>",
            TOP - 12
        );
        let words = format!("{} s", at / 1_000);
        out.push_str(&text(place, foot + 18, " text-anchor=\"middle\" fill=\"#5a6a75\"", &words));
    }
    for (i, (at, words)) in moments.iter().enumerate() {
        let y = foot + 50 + 20 * i64::try_from(i).unwrap_or(0);
        out.push_str(&text(LEFT - 40, y, " text-anchor=\"end\" fill=\"#5a6a75\"", &duration(*at)));
        out.push_str(&text(LEFT - 20, y, "", words));
    }
    out.push_str("</svg>\n");
    out
}
