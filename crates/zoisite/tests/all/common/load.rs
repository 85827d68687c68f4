//! Clients of the API that write and watch without pause while something is done to the cluster.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use reqwest::{Certificate, Client, Identity, Response, StatusCode};
use serde_json::{Value, json};

use super::lab::{Lab, MEMBERS};

/// Ten a second, as long as each is answered in time.
const PAUSE: Duration = Duration::from_millis(100);
/// For one answer; a machine ten times slower has to manage it.
const PATIENCE: Duration = Duration::from_secs(20);
/// So many writes at least: what is done in a moment is written through too.
const AT_LEAST: usize = 30;
const NAMESPACE: &str = "/api/v1/namespaces/default";
const WATCHED: &str = "/api/v1/namespaces?fieldSelector=metadata.name%3Ddefault";

/// What became of the clients. A write that failed was tried once more on a new connection before it counts as failed.
#[derive(Debug, Default)]
pub struct Load {
    pub worked: usize,
    /// Those of them that worked at the second try.
    pub second: usize,
    pub failed: usize,
    /// Reads, each on a connection of its own: a handshake in which both sides have to believe the other.
    pub read: usize,
    /// Those that were not answered, for whatever reason.
    pub unread: usize,
    /// How often the watch ended and was begun again.
    pub watches: usize,
    /// What was said wherever something failed.
    why: Vec<String>,
}

impl Load {
    /// Everybody is served, whatever is changed meanwhile: no write is lost for good, who dials is believed and believes
    /// each time, and few have to ask twice.
    #[track_caller]
    pub fn must_be_served(&self, what: &str) {
        eprintln!(
            "{what}: {} writes ({} at the second try), {} reads ({} unanswered), {} watches",
            self.worked, self.second, self.read, self.unread, self.watches
        );
        assert!(self.worked >= AT_LEAST && self.failed == 0, "{what}: {self:?}");
        let unbelieving = ["certificate", "x509", "nauthor", "must be logged in", "orbidden"];
        let unbelieved: Vec<_> = self
            .why
            .iter()
            .filter(|why| unbelieving.iter().any(|word| why.contains(word)))
            .collect();
        assert!(unbelieved.is_empty(), "{what}: somebody is not believed: {unbelieved:?}");
        // An API server that restarts ends its connections, and a load balancer notices after a moment.
        let (asked, again) = (self.read + self.unread, self.unread);
        assert!(self.read >= 5 && again * 10 <= asked, "{what}: {self:?}");
        assert!(self.second * 10 <= self.worked && self.watches <= 60, "{what}: {self:?}");
    }
}

/// Who dials: with the lab's kubeconfig that has every right, to the API endpoint.
struct Dials {
    server: String,
    authorities: String,
    identity: String,
}

impl Dials {
    fn of(lab: &Lab) -> Self {
        let config = std::fs::read_to_string(lab.glass()).unwrap();
        let config: Value = serde_saphyr::from_str(&config).unwrap();
        let decoded = |value: &Value| {
            let octets = BASE64_STANDARD.decode(value.as_str().unwrap()).unwrap();
            String::from_utf8(octets).unwrap()
        };
        let user = &config["users"][0]["user"];
        Self {
            server: lab.api(),
            authorities: decoded(&config["clusters"][0]["cluster"]["certificate-authority-data"]),
            identity: decoded(&user["client-certificate-data"])
                + &decoded(&user["client-key-data"]),
        }
    }

    /// One that has no connection yet.
    fn client(&self) -> Client {
        let authorities = Certificate::from_pem_bundle(self.authorities.as_bytes()).unwrap();
        Client::builder()
            .no_proxy()
            .connect_timeout(PATIENCE / 2)
            .tls_certs_only(authorities)
            .identity(Identity::from_pem(self.identity.as_bytes()).unwrap())
            .build()
            .unwrap()
    }

    /// Writes a number over what stood at a revision; which one it stands at now. One that was written late by a try
    /// that had been given up would not go through: it stood elsewhere then.
    async fn write(
        &self,
        client: &Client,
        number: usize,
        mut revision: String,
    ) -> Result<String, String> {
        let url = format!("{}{NAMESPACE}", self.server);
        loop {
            let annotations = json!({"tide": number.to_string()});
            let metadata = json!({"annotations": annotations, "resourceVersion": revision});
            let asked = client
                .patch(&url)
                .header("content-type", "application/merge-patch+json")
                .timeout(PATIENCE)
                .body(json!({"metadata": metadata}).to_string());
            let sent = asked.send().await;
            let written = match sent {
                Ok(answer) if answer.status() == StatusCode::CONFLICT => {
                    let asked = client.get(&url).timeout(PATIENCE);
                    object(asked.send().await).await?
                }
                sent => return object(sent).await.map(|written| at(&written)),
            };
            revision = at(&written);
            if tide(&written) == Some(number) {
                return Ok(revision);
            }
        }
    }

    /// The number last written, and the revision of what was asked.
    async fn listed(&self, client: &Client) -> Result<(Option<usize>, String), String> {
        let asked = client.get(format!("{}{WATCHED}", self.server)).timeout(PATIENCE);
        let listed = object(asked.send().await).await?;
        Ok((tide(&listed["items"][0]), at(&listed)))
    }

    /// Follows the number from a list on, until the connection ends or the revision is too old.
    async fn follows(&self, client: &Client, seen: &Seen) -> Result<(), String> {
        let (at_first, revision) = self.listed(client).await?;
        seen.is(at_first);
        let url = format!("{}{WATCHED}&watch=1&resourceVersion={revision}", self.server);
        let mut stream = answered(client.get(url).send().await).await?;
        let mut line = Vec::new();
        while let Some(chunk) = stream.chunk().await.map_err(|error| format!("{error:?}"))? {
            line.extend_from_slice(&chunk);
            while let Some(end) = line.iter().position(|octet| *octet == b'\n') {
                let event: Value = serde_json::from_slice(&line[..end]).unwrap();
                line.drain(..=end);
                if event["type"] == "ERROR" {
                    return Err(event.to_string());
                }
                seen.is(tide(&event["object"]));
            }
        }
        Err("the connection ended".to_owned())
    }
}

fn tide(namespace: &Value) -> Option<usize> {
    namespace["metadata"]["annotations"]["tide"].as_str()?.parse().ok()
}

fn at(object: &Value) -> String {
    object["metadata"]["resourceVersion"].as_str().unwrap().to_owned()
}

async fn object(sent: reqwest::Result<Response>) -> Result<Value, String> {
    answered(sent).await?.json().await.map_err(|error| format!("{error:?}"))
}

async fn answered(sent: reqwest::Result<Response>) -> Result<Response, String> {
    let answer = sent.map_err(|error| format!("{error:?}"))?;
    let status = answer.status();
    if status.is_success() {
        return Ok(answer);
    }
    Err(format!("{status}: {}", answer.text().await.unwrap_or_default()))
}

/// The highest number that the watch told of; it never tells of an older one afterwards.
#[derive(Debug, Default)]
struct Seen(Mutex<Option<usize>>);

impl Seen {
    fn is(&self, tide: Option<usize>) {
        let mut last = self.0.lock().unwrap();
        assert!(tide >= *last, "a watch goes back from {last:?} to {tide:?}");
        *last = tide;
    }

    fn last(&self) -> Option<usize> {
        *self.0.lock().unwrap()
    }
}

/// Writes ten times a second, reads on a new connection each time, and watches what is written while something else is done. What was acknowledged last is
/// there afterwards, and the watch tells of it.
pub fn under_load(lab: &Lab, during: impl FnOnce()) -> Load {
    /// Stops the clients also when what is done meanwhile fails.
    struct Stop<'a>(&'a AtomicBool);
    impl Drop for Stop<'_> {
        fn drop(&mut self) {
            self.0.store(true, Ordering::Relaxed);
        }
    }
    let stop = AtomicBool::new(false);
    let dials = Dials::of(lab);
    std::thread::scope(|scope| {
        let clients = scope.spawn(|| {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
            runtime.unwrap().block_on(both(&dials, &stop))
        });
        let stopping = Stop(&stop);
        during();
        drop(stopping);
        let load = clients.join().unwrap();
        if load.failed > 0 {
            let said = what_hosts_say(lab);
            eprintln!("{}", said.join("\n"));
        }
        load
    })
}

/// What those in front and behind said of the last minutes: without it a write that failed says nothing.
fn what_hosts_say(lab: &Lab) -> Vec<String> {
    let said = "date +%T.%N; journalctl --since -4min -o short-precise --no-pager -u zoisite-address \
                -u zoisite-etcd -u zoisite-load-balancer | grep -v 'apply request took\\|compact' | tail -n 120";
    // One of them may be what was lost.
    let on = MEMBERS.into_iter().filter(|host| lab.is_on(host));
    on.map(|host| format!("{host}: {}", lab.on(host, said).stdout)).collect()
}

async fn both(dials: &Dials, stop: &AtomicBool) -> Load {
    let (seen, mut load) = (Seen::default(), Load::default());
    let (mut watches, mut ends) = (0, Vec::new());
    let watching = async {
        loop {
            watches += 1;
            // It ends whenever its API server does; whatever else ends it is judged.
            if let Err(why) = dials.follows(&dials.client(), &seen).await {
                ends.push(why);
                tokio::time::sleep(PAUSE).await;
            }
        }
    };
    let (mut read, mut unread) = (0, Vec::new());
    let reading = async {
        loop {
            match dials.listed(&dials.client()).await {
                Ok(_) => read += 1,
                Err(why) => unread.push(why),
            }
            tokio::time::sleep(5 * PAUSE).await;
        }
    };
    let writing = async {
        let number = writes(dials, stop, &mut load).await;
        let end = Instant::now() + 6 * PATIENCE;
        while seen.last() < Some(number) {
            assert!(Instant::now() < end, "{number} was written, the watch is at {seen:?}");
            tokio::time::sleep(PAUSE).await;
        }
        let (now, _) = dials.listed(&dials.client()).await.unwrap();
        assert_eq!(now, Some(number), "the last write is lost");
    };
    let ended = async {
        tokio::select! {
            () = watching => {}
            () = reading => {}
        }
    };
    tokio::select! {
        () = ended => {}
        () = writing => {}
    }
    (load.watches, load.read, load.unread) = (watches, read, unread.len());
    load.why.extend(unread.into_iter().chain(ends));
    load
}

/// Writes until it is to stop, enough was written and the last one worked; which number that was.
async fn writes(dials: &Dials, stop: &AtomicBool, load: &mut Load) -> usize {
    let mut client = dials.client();
    let (last, mut revision) = dials.listed(&client).await.unwrap();
    for number in last.map_or(0, |last| last + 1).. {
        let mut written = dials.write(&client, number, revision.clone()).await;
        if let Err(why) = &written {
            load.why.push(why.clone());
            client = dials.client();
            written = dials.write(&client, number, revision.clone()).await;
            load.second += usize::from(written.is_ok());
        }
        match written {
            Ok(now) => {
                load.worked += 1;
                revision = now;
                if stop.load(Ordering::Relaxed) && load.worked >= AT_LEAST {
                    return number;
                }
            }
            Err(why) => {
                load.failed += 1;
                load.why.push(why);
                client = dials.client();
                assert!(load.failed < 200, "writing does not go on: {load:?}");
            }
        }
        tokio::time::sleep(PAUSE).await;
    }
    unreachable!("numbers do not end")
}
