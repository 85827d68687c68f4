//! Walking a TOML document with recovery: every mistake becomes a finding with its span, and what
//! can be read is read.

use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::finding::Finding;
use super::model::Settings;

/// A value and the byte range where it stands.
#[derive(Clone, Debug)]
pub(super) struct At<T> {
    pub value: T,
    pub span: Range<usize>,
}

/// One table of the file, whose known keys are named when it is opened.
pub(super) struct Section<'a> {
    path: String,
    table: &'a DeTable<'a>,
    /// Where the table stands; findings about missing keys point there.
    pub span: Range<usize>,
}

impl<'a> Section<'a> {
    /// Opens a table; every key that is not in `known` becomes a finding.
    pub fn open(
        path: &str,
        table: &'a DeTable<'a>,
        span: Range<usize>,
        known: &[&str],
        findings: &mut Vec<Finding>,
    ) -> Self {
        for (key, _) in table.iter() {
            let name: &str = key.get_ref();
            if known.contains(&name) {
                continue;
            }
            let place = if path.is_empty() { "the file".into() } else { format!("[{path}]") };
            let fix = match near(name, known.iter().copied()) {
                Some(close) => format!("did you mean '{close}'?"),
                None => format!("{place} knows: {}", known.join(", ")),
            };
            findings.push(
                Finding::blocks("unknown-key", format!("{place} has no key '{name}'"))
                    .at(key.span(), "not known here")
                    .fix(fix),
            );
        }
        Self { path: path.to_owned(), table, span }
    }

    /// Opens the table under `key`; `None` when absent, or a finding when it is no table.
    pub fn section(
        &self,
        key: &str,
        known: &[&str],
        findings: &mut Vec<Finding>,
    ) -> Option<Section<'a>> {
        let (table, span) = self.table(key, findings)?;
        Some(Section::open(&self.join(key), table, span, known, findings))
    }

    /// The table under `key`, whose keys are the person's own.
    pub fn table(
        &self,
        key: &str,
        findings: &mut Vec<Finding>,
    ) -> Option<(&'a DeTable<'a>, Range<usize>)> {
        let value = self.table.get(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some((table, self.key_span(key))),
            other => {
                self.wrong_type(key, value, "a table", other, findings);
                None
            }
        }
    }

    fn key_span(&self, key: &str) -> Range<usize> {
        self.table.get_key_value(key).map_or(self.span.clone(), |(key, _)| key.span())
    }

    /// The dotted path of `key`.
    pub fn join(&self, key: &str) -> String {
        if self.path.is_empty() { key.to_owned() } else { format!("{}.{key}", self.path) }
    }

    /// Whether `key` is there, whatever it holds.
    pub fn has(&self, key: &str) -> bool {
        self.table.get(key).is_some()
    }

    /// The text under `key`.
    pub fn string(&self, key: &str, findings: &mut Vec<Finding>) -> Option<At<String>> {
        let value = self.table.get(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some(At { value: text.to_string(), span: value.span() }),
            other => {
                self.wrong_type(key, value, "a text in quotes", other, findings);
                None
            }
        }
    }

    /// The text under `key`, turned into a value; a finding with `code` when that fails.
    pub fn parsed<T, E: std::fmt::Display>(
        &self,
        key: &str,
        code: &'static str,
        parse: impl FnOnce(&str) -> Result<T, E>,
        findings: &mut Vec<Finding>,
    ) -> Option<At<T>> {
        let At { value, span } = self.string(key, findings)?;
        match parse(&value) {
            Ok(value) => Some(At { value, span }),
            Err(why) => {
                findings.push(
                    Finding::blocks(code, format!("'{value}' cannot be {}", self.join(key)))
                        .at(span, why.to_string())
                        .fix("see docs/cluster-file.md for what this key takes"),
                );
                None
            }
        }
    }

    /// The text or list of texts under `key`.
    pub fn strings(&self, key: &str, findings: &mut Vec<Finding>) -> Option<Vec<At<String>>> {
        let value = self.table.get(key)?;
        match value.get_ref() {
            DeValue::String(text) => Some(vec![At { value: text.to_string(), span: value.span() }]),
            DeValue::Array(items) => {
                let mut out = Vec::new();
                for item in items.iter() {
                    match item.get_ref() {
                        DeValue::String(text) => {
                            out.push(At { value: text.to_string(), span: item.span() });
                        }
                        other => self.wrong_type(key, item, "a text in quotes", other, findings),
                    }
                }
                Some(out)
            }
            other => {
                self.wrong_type(key, value, "a list of texts", other, findings);
                None
            }
        }
    }

    /// Whether `key` says `true`.
    pub fn yes(&self, key: &str, findings: &mut Vec<Finding>) -> bool {
        match self.table.get(key).map(|value| (value, value.get_ref())) {
            None => false,
            Some((_, DeValue::Boolean(yes))) => *yes,
            Some((value, other)) => {
                self.wrong_type(key, value, "true or false", other, findings);
                false
            }
        }
    }

    /// The whole number under `key`, within `range`; `code` names the finding when outside.
    pub fn number(
        &self,
        key: &str,
        code: &'static str,
        range: std::ops::RangeInclusive<i64>,
        findings: &mut Vec<Finding>,
    ) -> Option<At<i64>> {
        let value = self.table.get(key)?;
        let DeValue::Integer(number) = value.get_ref() else {
            self.wrong_type(key, value, "a whole number", value.get_ref(), findings);
            return None;
        };
        match i64::from_str_radix(number.as_str(), number.radix()) {
            Ok(n) if range.contains(&n) => Some(At { value: n, span: value.span() }),
            _ => {
                let text = format!("{} is {}", self.join(key), number.as_str());
                findings.push(
                    Finding::blocks(code, text).at(value.span(), "not possible").fix(format!(
                        "a number from {} to {} is",
                        range.start(),
                        range.end()
                    )),
                );
                None
            }
        }
    }

    /// A component's own settings under `key`, in its documented field names.
    pub fn settings(&self, key: &str, findings: &mut Vec<Finding>) -> Settings {
        let Some((table, _)) = self.table(key, findings) else { return Settings::new() };
        table.iter().map(|(key, value)| (key.get_ref().to_string(), json(value))).collect()
    }

    /// Says that `key` must be there.
    pub fn missing(&self, key: &str, example: &str, findings: &mut Vec<Finding>) {
        if self.table.contains_key(key) {
            return; // It is there, and what is wrong with it has been said.
        }
        findings.push(
            Finding::blocks("missing-key", format!("{} is missing", self.join(key)))
                .at(self.span.clone(), "here")
                .fix(format!("add: {key} = {example}")),
        );
    }

    fn wrong_type(
        &self,
        key: &str,
        value: &Spanned<DeValue<'_>>,
        wanted: &str,
        found: &DeValue<'_>,
        findings: &mut Vec<Finding>,
    ) {
        findings.push(
            Finding::blocks("wrong-type", format!("{} takes {wanted}", self.join(key)))
                .at(value.span(), format!("this is {}", kind(found)))
                .fix(format!("write {wanted}")),
        );
    }
}

/// The trade's word for a TOML value's type.
pub(super) fn kind(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a decimal number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn json(value: &Spanned<DeValue<'_>>) -> serde_json::Value {
    use serde_json::Value;
    match value.get_ref() {
        DeValue::String(text) => Value::String(text.to_string()),
        DeValue::Integer(n) => {
            i64::from_str_radix(n.as_str(), n.radix()).map_or(Value::Null, Value::from)
        }
        DeValue::Float(n) => n.as_str().parse::<f64>().map_or(Value::Null, Value::from),
        DeValue::Boolean(b) => Value::Bool(*b),
        DeValue::Datetime(d) => Value::String(d.to_string()),
        DeValue::Array(items) => items.iter().map(json).collect(),
        DeValue::Table(table) => {
            table.iter().map(|(key, value)| (key.get_ref().to_string(), json(value))).collect()
        }
    }
}

/// The name in `known` that a person most likely meant by `name`, if one is close.
pub(super) fn near<'k>(name: &str, known: impl Iterator<Item = &'k str>) -> Option<&'k str> {
    known
        .map(|candidate| (strsim::damerau_levenshtein(name, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= (candidate.len().max(name.len()) / 3).max(1))
        .min()
        .map(|(_, candidate)| candidate)
}
