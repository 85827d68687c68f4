//! Ranges, lists and globs in names and addresses: `tern-{1..40}`, `jetty-{a,b}`, `tern-*`.

/// The most names that one pattern may stand for; Kubernetes carries 5,000 nodes.
const MOST: usize = 10_000;

/// Writes out every brace of `pattern`, the last brace varying fastest.
///
/// A brace holds a range of numbers `{1..40}` (equal widths keep leading zeros), a range of letters
/// `{a..d}`, or a list `{a,b}`. Text without braces stands for itself.
///
/// # Errors
/// A sentence on what is wrong with the pattern.
pub(super) fn expand(pattern: &str) -> Result<Vec<String>, String> {
    let mut out = vec![String::new()];
    let mut rest = pattern;
    while let Some(open) = rest.find(['{', '}']) {
        if rest.as_bytes()[open] == b'}' {
            return Err("'}' without a '{' before it".into());
        }
        let (text, tail) = rest.split_at(open);
        let Some(close) = tail.find('}') else {
            return Err("'{' is never closed".into());
        };
        let choices = brace(&tail[1..close])?;
        if out.len() * choices.len() > MOST {
            return Err(format!("it stands for more than {MOST} names"));
        }
        out = out
            .iter()
            .flat_map(|head| choices.iter().map(move |choice| format!("{head}{text}{choice}")))
            .collect();
        rest = &tail[close + 1..];
    }
    for name in &mut out {
        name.push_str(rest);
    }
    Ok(out)
}

fn brace(inside: &str) -> Result<Vec<String>, String> {
    let Some((from, to)) = inside.split_once("..") else {
        let choices: Vec<_> = inside.split(',').map(|c| c.trim().to_owned()).collect();
        if choices.iter().any(|c| c.is_empty() || c.contains('{')) {
            return Err(format!("'{{{inside}}}' has an empty or nested choice"));
        }
        return Ok(choices);
    };
    let (from, to) = (from.trim(), to.trim());
    if let (Ok(first), Ok(last)) = (from.parse::<u32>(), to.parse::<u32>()) {
        if first > last {
            return Err(format!("'{{{inside}}}' runs backwards"));
        }
        if (last - first) as usize >= MOST {
            return Err(format!("'{{{inside}}}' stands for more than {MOST} names"));
        }
        let width = if from.len() == to.len() && from.starts_with('0') { from.len() } else { 0 };
        return Ok((first..=last).map(|n| format!("{n:0width$}")).collect());
    }
    match (from.as_bytes(), to.as_bytes()) {
        ([a], [b]) if a.is_ascii_lowercase() && b.is_ascii_lowercase() && a <= b => {
            Ok((*a..=*b).map(|c| char::from(c).to_string()).collect())
        }
        _ => Err(format!("'{{{inside}}}' is no range of numbers or letters, such as {{1..40}}")),
    }
}

/// Whether `name` matches `glob`, in which `*` stands for any text.
pub fn glob(glob: &str, name: &str) -> bool {
    let mut parts = glob.split('*');
    let Some(mut rest) = name.strip_prefix(parts.next().unwrap_or_default()) else {
        return false;
    };
    let mut last = None;
    for part in parts {
        if let Some(part) = last.replace(part) {
            match rest.find(part) {
                Some(at) => rest = &rest[at + part.len()..],
                None => return false,
            }
        }
    }
    last.map_or(rest.is_empty(), |end: &str| rest.ends_with(end))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn expands_ranges_lists_and_products() {
        assert_eq!(expand("heron").unwrap(), ["heron"]);
        assert_eq!(expand("tern-{1..3}").unwrap(), ["tern-1", "tern-2", "tern-3"]);
        assert_eq!(expand("tern-{08..10}").unwrap(), ["tern-08", "tern-09", "tern-10"]);
        assert_eq!(expand("jetty-{a,b}").unwrap(), ["jetty-a", "jetty-b"]);
        assert_eq!(expand("r{1..2}{a..b}x").unwrap(), ["r1ax", "r1bx", "r2ax", "r2bx"]);
    }

    #[test]
    fn refuses_patterns_that_mean_nothing_or_too_much() {
        for bad in ["a{", "a}", "{3..1}", "{a,}", "{1..99999}", "{1..500}{1..500}", "{a..9}"] {
            assert!(expand(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn globs() {
        assert!(glob("tern-*", "tern-12"));
        assert!(glob("*", "heron"));
        assert!(glob("t*n-*2", "tern-12"));
        assert!(glob("heron", "heron"));
        assert!(!glob("tern-*", "heron"));
        assert!(!glob("heron", "herons"));
        assert!(!glob("ab*ba", "aba"));
    }
}
