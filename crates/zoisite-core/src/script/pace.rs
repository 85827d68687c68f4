use serde::{Deserialize, Serialize};

/// How fast a member's disk is, and how it keeps up, since it started: by its own counters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pace {
    /// In so many milliseconds 99 of 100 writes of its log were on the disk (`etcd_disk_wal_fsync_duration_seconds`);
    /// `None` where it took longer than etcd counts.
    pub disk_ms: Option<u64>,
    /// How many changes took it too long to apply (`etcd_server_slow_apply_total`).
    pub slow_applies: u64,
    /// For how long it runs, in seconds.
    pub seconds: u64,
}

/// From then on etcd's elections and leases suffer, in milliseconds. (Its own advice is ten.)
const SLOW_DISK: u64 = 100;
/// An hour, in seconds.
const SETTLED: u64 = 3_600;
/// So many an hour are more than an odd moment's.
const SLOW_APPLIES: u64 = 20;

impl Pace {
    /// Reads lines of the Prometheus text format, as etcd serves them, and the time.
    pub(super) fn read(text: &str, now: i64) -> Option<Self> {
        let value = |name: &str| {
            let found = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
            found.and_then(|value| value.trim().parse::<f64>().ok())
        };
        let buckets = text.lines().filter_map(|line| {
            let rest = line.strip_prefix("etcd_disk_wal_fsync_duration_seconds_bucket{le=\"")?;
            let (bound, count) = rest.split_once("\"} ")?;
            // The last one has no bound (`+Inf`).
            Some((bound.parse::<f64>().ok()?, count.trim().parse::<f64>().ok()?))
        });
        let mut buckets: Vec<(f64, f64)> = buckets.filter(|(bound, _)| bound.is_finite()).collect();
        buckets.sort_by(|a, b| a.0.total_cmp(&b.0));
        let all = value("etcd_disk_wal_fsync_duration_seconds_count")?;
        let most = buckets.iter().find(|(_, count)| *count >= all * 0.99);
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "small counts")]
        let whole = |value: f64| value.round().max(0.0) as u64;
        let started = value("process_start_time_seconds").map_or(0, whole);
        Some(Self {
            disk_ms: most.map(|(bound, _)| whole(bound * 1_000.0)),
            slow_applies: value("etcd_server_slow_apply_total").map_or(0, whole),
            seconds: u64::try_from(now).unwrap_or(0).saturating_sub(started),
        })
    }

    /// What of it a person should know.
    pub fn suffers(&self) -> Vec<String> {
        let mut out = Vec::new();
        // What was slow while everything was brought there and started says little.
        if self.seconds < SETTLED {
            return out;
        }
        let slow = self.disk_ms.is_none_or(|took| took > SLOW_DISK);
        if slow {
            let took = self.disk_ms.map_or_else(|| "8 seconds".to_owned(), |ms| format!("{ms} ms"));
            out.push(format!(
                "its disk is slow: 1 of 100 writes takes {took} or longer, and etcd wants 10 ms"
            ));
        }
        let hours = self.seconds / SETTLED;
        if self.slow_applies / hours >= SLOW_APPLIES {
            out.push(format!(
                "it keeps up badly: {} changes took it too long, {} an hour",
                self.slow_applies,
                self.slow_applies / hours
            ));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(slow: u64, applies: u64) -> Pace {
        let text = format!(
            "etcd_disk_wal_fsync_duration_seconds_bucket{{le=\"0.008\"}} {}\n\
             etcd_disk_wal_fsync_duration_seconds_bucket{{le=\"0.256\"}} 10000\n\
             etcd_disk_wal_fsync_duration_seconds_bucket{{le=\"+Inf\"}} 10000\n\
             etcd_disk_wal_fsync_duration_seconds_count 10000\n\
             etcd_server_slow_apply_total {applies}\n\
             process_start_time_seconds 1.7642448e+09\n",
            10_000 - slow
        );
        Pace::read(&text, 1_764_244_800 + 7_200).unwrap()
    }

    #[test]
    fn one_write_of_a_hundred_says_how_fast_a_disk_is() {
        assert_eq!(of(99, 3), Pace { disk_ms: Some(8), slow_applies: 3, seconds: 7_200 });
        assert!(of(99, 3).suffers().is_empty());
        let slow = of(101, 50);
        assert_eq!(slow.disk_ms, Some(256));
        let told = slow.suffers();
        assert!(told.len() == 2 && told[0].contains("256 ms") && told[1].contains("25 an hour"));
        assert!(Pace { seconds: 3_599, ..slow }.suffers().is_empty(), "it began a moment ago");
        assert_eq!(Pace::read("nothing of it", 0), None);
    }
}
