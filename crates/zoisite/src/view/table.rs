use comfy_table::{ContentArrangement, Table, presets};

/// A table without lines: two spaces in front, columns kept apart by space.
pub fn table(header: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(header.iter().copied());
    for row in rows {
        table.add_row(row);
    }
    let mut out = String::new();
    for line in table.lines() {
        out.push(' ');
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}
