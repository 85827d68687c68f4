//! What bringing components will take, before it begins: how much crosses the link from here, and how fast that is.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use zoisite_core::cluster::HostName;
use zoisite_core::sequence::{Looks, Sequence, Work};
use zoisite_core::snapshot::SNAPSHOT;
use zoisite_reach::Carried;

use crate::site::Site;
use crate::view::{fetching::size, seconds};

/// What is less than this, in octets, is not worth a forecast.
const WORTH: u64 = 16 << 20;

/// How much is to be brought.
#[derive(Debug, Default)]
pub struct Forecast {
    /// Octets that cross the link from here: each file once to a site, or once to a host of none.
    pub crosses: u64,
    /// Octets that hosts get in all.
    pub all: u64,
    /// What crosses, by component.
    by_component: BTreeMap<&'static str, u64>,
    /// Hosts that get something from here, the first of them.
    pub first: Option<HostName>,
    expected: Option<Duration>,
}

impl Forecast {
    /// Of a sequence; `None` where it is not worth one.
    pub fn of(site: &Site, sequence: &Sequence, looks: &Looks) -> Option<Self> {
        let mut forecast = Self::default();
        let mut come = BTreeSet::new();
        let place = |host: &HostName| {
            let site = site.cluster.host(host).and_then(|host| host.place.site.clone());
            site.unwrap_or_else(|| format!("\0{host}"))
        };
        // What a look found at a host of a site need not cross.
        for (host, look) in looks {
            if let Ok(observed) = look {
                come.extend(
                    observed.found.components.values().map(|sum| (place(host), sum.clone())),
                );
            }
        }
        for step in &sequence.steps {
            let Work::Upload { host, components } = &step.work else { continue };
            let Some(Ok(observed)) = looks.get(host) else { continue };
            for (component, sum) in components {
                let pinned = &component.pinned;
                let path = match pinned.name {
                    // Sealed it is hardly larger.
                    SNAPSHOT => site.snapshots().sealed(&pinned.version),
                    _ => site.components_folder().join(pinned.path(&observed.arch)),
                };
                let octets = std::fs::metadata(path).map_or(0, |facts| facts.len());
                forecast.all += octets;
                if come.insert((place(host), sum.clone())) {
                    forecast.crosses += octets;
                    *forecast.by_component.entry(pinned.name).or_default() += octets;
                    forecast.first.get_or_insert_with(|| host.clone());
                }
            }
        }
        (forecast.crosses >= WORTH).then_some(forecast)
    }

    /// In words, with so many octets a second.
    pub fn text(&mut self, rate: Option<f64>) -> String {
        let rate = rate.filter(|rate| *rate > 0.0);
        let time = |octets: u64| rate.map(|rate| Duration::from_secs_f64(octets as f64 / rate));
        self.expected = time(self.crosses);
        let part = |(name, octets): (&&str, &u64)| match time(*octets) {
            Some(time) => format!("{name} {} in {}", size(*octets), seconds(time)),
            None => format!("{name} {}", size(*octets)),
        };
        let parts: Vec<String> = self.by_component.iter().map(part).collect();
        let mut text = format!("to bring over this link: {}", size(self.crosses));
        if let (Some(time), Some(rate)) = (self.expected, rate) {
            let rate = size(rate as u64);
            text.push_str(&format!(", about {} at {rate}/s as it is now", seconds(time)));
        }
        text.push_str(&format!(" ({})", parts.join(", ")));
        if self.all > self.crosses {
            text.push_str(&format!("; {} more from host to host", size(self.all - self.crosses)));
        }
        text
    }

    /// What it took, against the forecast.
    pub fn against(&self, carried: Carried, took: Duration) -> String {
        let expected = match self.expected {
            Some(expected) => format!(" (forecast {})", seconds(expected)),
            None => String::new(),
        };
        format!(
            "brought {} over this link and {} from host to host, in {}{expected}",
            size(carried.crossed),
            size(carried.passed),
            seconds(took)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_forecast_adds_up_and_is_held_against_what_it_took() {
        let by_component = BTreeMap::from([("etcd", 40 << 20), ("images", 80 << 20)]);
        let (crosses, all) = (120 << 20, 360 << 20);
        let mut forecast = Forecast { crosses, all, by_component, ..Forecast::default() };
        assert_eq!(
            forecast.text(Some(f64::from(2 << 20))),
            "to bring over this link: 120.0 MiB, about 60.0 s at 2.0 MiB/s as it is now \
             (etcd 40.0 MiB in 20.0 s, images 80.0 MiB in 40.0 s); 240.0 MiB more from host to host"
        );
        let carried = Carried { crossed: 120 << 20, passed: 240 << 20 };
        assert!(
            forecast
                .against(carried, Duration::from_secs(66))
                .ends_with("in 66.0 s (forecast 60.0 s)")
        );
        // Where nothing is known of the link nothing is promised.
        assert!(!forecast.text(None).contains("about"));
        assert!(!forecast.against(carried, Duration::from_secs(66)).contains("forecast"));
    }
}
