//! What ends when, on a line of time: in the terminal, and as a design (SVG).

use jiff::Timestamp;
use zoisite_core::pki::{Ending, Ends};

use super::table::ranked;
use super::{Style, count, day, few};

const DAY: f64 = 86_400.0;
/// How wide the line is in the terminal.
const CELLS: usize = 40;

/// Days as a person says them; what matters soon is nearer, so that a year takes no more room than the days before it.
const MARKS: [(f64, &str); 7] = [
    (0.0, "now"),
    (7.0, "7 d"),
    (30.0, "30 d"),
    (90.0, "90 d"),
    (365.0, "1 y"),
    (1_095.0, "3 y"),
    (3_650.0, "10 y"),
];

/// Where on the line a moment is, from 0 (now) to 1 (ten years on).
fn at(moment: Timestamp, now: Timestamp) -> f64 {
    let days = (moment.as_second() - now.as_second()) as f64 / DAY;
    place(days)
}

fn place(days: f64) -> f64 {
    let scaled = |days: f64| (1.0 + days.max(0.0) / 7.0).ln();
    (scaled(days) / scaled(3_650.0)).min(1.0)
}

/// What it is, and whose.
fn called(ending: &Ending) -> (String, String) {
    let holders: Vec<&str> = ending.holders.iter().map(String::as_str).collect();
    match ending.what {
        Ends::Authority(_) => (ending.holders.join(", "), String::new()),
        Ends::Profile(profile) => (profile.to_string(), few(&holders)),
    }
}

/// How it stands with it: ended, to be renewed now, or well.
fn state(ending: &Ending, now: Timestamp) -> &'static str {
    match ending.renewed {
        _ if ending.end <= now => "ended",
        Some(renewed) if renewed <= now => "due",
        _ => "",
    }
}

/// As lines of a terminal.
pub fn lines(endings: &[Ending], now: Timestamp, style: Style) -> String {
    let rows = endings.iter().map(|ending| {
        let (what, whose) = called(ending);
        let state = state(ending, now);
        let end = match state {
            "ended" => style.bad(&format!("{}, ended", day(ending.end))),
            "due" => style.warn(&format!("{}, renew", day(ending.end))),
            _ => day(ending.end),
        };
        vec![what, end, bar(ending, now, style), whose]
    });
    let ruler = ruler();
    let columns = [("certificate", 0), ("ends", 0), (ruler.as_str(), 1), ("holders", 2)];
    ranked(&columns, rows)
}

/// The marks, each where it is on the line.
fn ruler() -> String {
    let mut ruler = String::new();
    for (days, mark) in MARKS {
        let cell = cell(place(days));
        while ruler.chars().count() < cell {
            ruler.push(' ');
        }
        ruler.push_str(mark);
    }
    ruler
}

fn cell(at: f64) -> usize {
    ((at * (CELLS - 1) as f64).round() as usize).min(CELLS - 1)
}

/// Its life from now on: what is left until it is issued again, and from there to its end.
fn bar(ending: &Ending, now: Timestamp, style: Style) -> String {
    let end = cell(at(ending.end, now));
    let renewed = ending.renewed.map_or(end, |renewed| cell(at(renewed, now)).min(end));
    if ending.end <= now {
        return style.bad("✗");
    }
    let lasts = "━".repeat(renewed);
    let due = "╌".repeat(end - renewed);
    format!("{}{}{}", style.good(&lasts), style.warn(&due), style.dim("┤"))
}

/// One line below all of it.
pub fn summed(endings: &[Ending], now: Timestamp) -> String {
    let leaves = endings.iter().filter(|one| matches!(one.what, Ends::Profile(_)));
    let all: usize = leaves.clone().map(|one| one.holders.len()).sum();
    let due = leaves.filter(|one| !state(one, now).is_empty()).map(|one| one.holders.len()).sum();
    let due = match due {
        0 => "none is to be renewed yet".to_owned(),
        due => format!("{due} to be renewed now: zoisite raise"),
    };
    format!("{}, {due}", count(all, "certificate"))
}

/// As a design.
pub fn svg(name: &str, endings: &[Ending], now: Timestamp) -> String {
    const LEFT: f64 = 372.0;
    const WIDTH: f64 = 820.0;
    const ROW: f64 = 30.0;
    const TOP: f64 = 96.0;
    let x = |at: f64| LEFT + at * WIDTH;
    let height = TOP + ROW * endings.len() as f64 + 56.0;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 1280 {height:.0}\" font-family=\"system-ui, sans-serif\" font-size=\"14\">\n\
         <rect width=\"1280\" height=\"{height:.0}\" fill=\"#fbfaf7\"/>\n\
         <text x=\"24\" y=\"40\" font-size=\"22\" fill=\"#22313a\">{}: what ends when</text>\n\
         <text x=\"24\" y=\"62\" fill=\"#66757d\">as of {}; the nearer, the more room</text>\n",
        escaped(name),
        day(now)
    );
    let bottom = height - 36.0;
    for (days, mark) in MARKS {
        let x = x(place(days));
        out.push_str(&format!(
            "<line x1=\"{x:.1}\" y1=\"{:.0}\" x2=\"{x:.1}\" y2=\"{bottom:.0}\" stroke=\"#dcd8cd\"/>\n\
             <text x=\"{x:.1}\" y=\"{:.0}\" text-anchor=\"middle\" fill=\"#66757d\">{mark}</text>\n",
            TOP - 8.0,
            bottom + 20.0
        ));
    }
    for (n, ending) in endings.iter().enumerate() {
        let y = TOP + ROW * n as f64;
        let (what, whose) = called(ending);
        let end = at(ending.end, now);
        let renewed = ending.renewed.map_or(end, |renewed| at(renewed, now).min(end));
        let colour = match state(ending, now) {
            "ended" => "#b3392f",
            "due" => "#c77f1b",
            _ => "#3f7d6b",
        };
        let people: String = match whose.is_empty() {
            true => String::new(),
            false => format!(
                " <tspan fill=\"#66757d\">{}</tspan>",
                escaped(&short(&whose, 46 - what.chars().count().min(30)))
            ),
        };
        out.push_str(&format!(
            "<text x=\"24\" y=\"{:.1}\" fill=\"#22313a\">{}{people}</text>\n\
             <rect x=\"{:.1}\" y=\"{y:.1}\" width=\"{:.1}\" height=\"14\" rx=\"3\" fill=\"{colour}\"/>\n\
             <rect x=\"{:.1}\" y=\"{y:.1}\" width=\"{:.1}\" height=\"14\" rx=\"3\" fill=\"{colour}\" opacity=\"0.35\"/>\n",
            y + 12.0,
            escaped(&what),
            x(0.0),
            (renewed * WIDTH).max(2.0),
            x(renewed),
            ((end - renewed) * WIDTH).max(0.0),
        ));
        let (anchor, at) = if end > 0.85 { ("end", x(end) - 6.0) } else { ("start", x(end) + 8.0) };
        let ink = if end > 0.85 { "#ffffff" } else { "#22313a" };
        out.push_str(&format!(
            "<text x=\"{at:.1}\" y=\"{:.1}\" text-anchor=\"{anchor}\" font-size=\"12\" fill=\"{ink}\">{}</text>\n",
            y + 11.5,
            day(ending.end)
        ));
    }
    out.push_str("</svg>\n");
    out
}

fn short(text: &str, most: usize) -> String {
    match text.chars().count() > most {
        true => text.chars().take(most - 1).chain(['…']).collect(),
        false => text.to_owned(),
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
