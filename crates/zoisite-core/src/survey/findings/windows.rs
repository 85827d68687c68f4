//! Rules about hosts that run Windows.

use super::{Case, SiteFinding};

/// Containers there run on the very build that their image is made for.
pub(super) fn release(case: &Case<'_>) -> Vec<SiteFinding> {
    let Some(wanted) = case.host.windows else { return Vec::new() };
    // `windows 10.0.20348`
    let build = case.facts.os.rsplit('.').next().and_then(|build| build.parse::<u32>().ok());
    match build {
        Some(build) if build == wanted.build() => Vec::new(),
        _ => vec![
            case.blocks(
                "windows-release",
                format!("it runs {}, and the file says build {}", case.facts.os, wanted.build()),
            )
            .seen(format!("it calls itself {}", case.facts.release))
            .fix("name the release that it runs under hosts: its images are of that build"),
        ],
    }
}
