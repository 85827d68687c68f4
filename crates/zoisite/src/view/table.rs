//! Tables without lines, as wide as the terminal at most.

use console::{Term, measure_text_width, truncate_str};

/// A column: its title, and how readily it is left out where there is no room (0: never).
pub type Column<'a> = (&'a str, u8);

/// A table whose columns all stay: see [`ranked`].
pub fn table(header: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let columns: Vec<Column<'_>> = header.iter().map(|title| (*title, 0)).collect();
    ranked(&columns, rows)
}

/// Two spaces in front, columns kept apart by two. On a terminal that is too narrow columns are left out by
/// their rank, and the last one is folded below itself.
pub fn ranked(columns: &[Column<'_>], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    // Elsewhere lines are for programs, and have no end.
    let width = Term::stdout().size_checked().map_or(usize::MAX, |(_, columns)| columns.into());
    fitted(columns, &rows.into_iter().collect::<Vec<_>>(), width)
}

const GAP: usize = 2;
/// A last column that is narrower is not folded any further.
const LEAST: usize = 16;

fn fitted(columns: &[Column<'_>], rows: &[Vec<String>], width: usize) -> String {
    let natural: Vec<usize> = columns
        .iter()
        .enumerate()
        .map(|(i, (title, _))| {
            let cells = rows.iter().filter_map(|row| row.get(i));
            cells
                .map(|cell| measure_text_width(cell))
                .chain([title.chars().count()])
                .max()
                .unwrap_or(0)
        })
        .collect();
    let mut shown: Vec<usize> = (0..columns.len()).collect();
    let total = |shown: &[usize]| shown.iter().map(|i| natural[*i] + GAP).sum::<usize>();
    while total(&shown) > width {
        // The readiest one goes first, of equals the one that stands last.
        let Some(at) = (0..shown.len()).rev().max_by_key(|at| columns[shown[*at]].1) else { break };
        if columns[shown[at]].1 == 0 {
            break;
        }
        shown.remove(at);
    }
    let Some((last, before)) = shown.split_last() else { return String::new() };
    let offset = total(before) + GAP;
    let room = width.saturating_sub(offset).max(LEAST);
    let mut out = String::new();
    let titles: Vec<String> = columns.iter().map(|(title, _)| (*title).to_owned()).collect();
    for row in std::iter::once(&titles).chain(rows) {
        let cell = |i: usize| row.get(i).map_or("", String::as_str);
        let mut line = String::new();
        for i in before {
            let pad = natural[*i] - measure_text_width(cell(*i));
            line.push_str(&format!("{:GAP$}{}{:pad$}", "", cell(*i), ""));
        }
        for (n, part) in folded(cell(*last), room).into_iter().enumerate() {
            let indent = if n == 0 { GAP } else { offset };
            line.push_str(&format!("{:indent$}{part}", ""));
            out.push_str(line.trim_end());
            out.push('\n');
            line.clear();
        }
    }
    out
}

/// A text in lines of at most so many columns, parted between words; a word that is longer is cut.
fn folded(text: &str, room: usize) -> Vec<String> {
    parted(text, room, room).iter().map(|line| truncate_str(line, room, "…").into_owned()).collect()
}

/// A text parted between words, into a first line of at most so many columns and further ones of at most so many others; a
/// word that is longer has a line of its own.
pub fn parted(text: &str, first: usize, further: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let room = if lines.len() == 1 { first } else { further };
        let Some(line) = lines.last_mut() else { break };
        let fits = measure_text_width(line) + 1 + measure_text_width(word) <= room;
        if line.is_empty() {
            line.push_str(word);
        } else if fits {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows() -> Vec<Vec<String>> {
        let row = |cells: [&str; 4]| cells.map(ToOwned::to_owned).to_vec();
        vec![
            row(["heron", "healthy", "892 KiB", "as wanted"]),
            row([
                "egret",
                "\u{1b}[33mnot answering\u{1b}[0m",
                "–",
                "3 differences, and one of them is long",
            ]),
        ]
    }

    const COLUMNS: [Column<'static>; 4] =
        [("member", 0), ("state", 0), ("database", 2), ("on the host", 0)];

    #[test]
    fn with_room_every_column_stands_and_colours_take_none() {
        let text = fitted(&COLUMNS, &rows(), 200);
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[0], "  member  state          database  on the host");
        assert_eq!(lines[1], "  heron   healthy        892 KiB   as wanted");
        assert!(lines[2].contains("\u{1b}[0m  –         3 differences"), "{text}");
    }

    #[test]
    fn without_room_columns_go_by_rank_and_the_last_one_folds() {
        let text = fitted(&COLUMNS, &rows(), 50);
        assert!(!text.contains("database") && !text.contains("KiB"), "{text}");
        assert!(text.lines().all(|line| measure_text_width(line) <= 50), "{text}");
        let folded: Vec<&str> = text.lines().skip(2).collect();
        assert!(folded[0].ends_with("3 differences, and one of"), "{text}");
        assert_eq!(folded[1].trim_start(), "them is long");
        assert_eq!(folded[1].find("them"), Some(measure_text_width("  member  state          ")));
    }

    #[test]
    fn a_word_without_end_is_cut_and_a_narrow_terminal_still_shows_something() {
        let long = vec![vec!["a".repeat(300)]];
        let text = fitted(&[("what", 0)], &long, 80);
        assert!(text.lines().all(|line| measure_text_width(line) <= 80), "{text}");
        assert!(!fitted(&COLUMNS, &rows(), 5).is_empty());
    }
}
