//! etcd's own protocol, as far as proving a quorum and changing its members needs it.
//!
//! The messages are those of etcd's `rpc.proto` and `kv.proto` with only the fields used here; field
//! numbers are its own. (A generated client would ask every builder of this program for a protocol
//! compiler.)

use std::sync::Arc;
use std::time::Duration;

use prost::Message;
use rustls_pki_types::ServerName;
use tokio_rustls::TlsConnector;
use tonic::transport::{Channel, Endpoint};

use crate::access::{Access, Dial};
use crate::quorum::MemberAnswer;

#[derive(Clone, PartialEq, Message)]
struct Header {
    #[prost(uint64, tag = "1")]
    cluster_id: u64,
    #[prost(uint64, tag = "2")]
    member_id: u64,
    #[prost(int64, tag = "3")]
    revision: i64,
}

#[derive(Clone, PartialEq, Message)]
struct PutRequest {
    #[prost(bytes = "vec", tag = "1")]
    key: Vec<u8>,
    #[prost(bytes = "vec", tag = "2")]
    value: Vec<u8>,
    #[prost(int64, tag = "3")]
    lease: i64,
}

#[derive(Clone, PartialEq, Message)]
struct RangeRequest {
    #[prost(bytes = "vec", tag = "1")]
    key: Vec<u8>,
    #[prost(bytes = "vec", tag = "2")]
    range_end: Vec<u8>,
    #[prost(int64, tag = "3")]
    limit: i64,
    #[prost(bool, tag = "9")]
    count_only: bool,
}

#[derive(Clone, PartialEq, Message)]
struct KeyValue {
    #[prost(bytes = "vec", tag = "1")]
    key: Vec<u8>,
    #[prost(bytes = "vec", tag = "5")]
    value: Vec<u8>,
}

#[derive(Clone, PartialEq, Message)]
struct RangeResponse {
    #[prost(message, optional, tag = "1")]
    header: Option<Header>,
    #[prost(message, repeated, tag = "2")]
    kvs: Vec<KeyValue>,
    #[prost(bool, tag = "3")]
    more: bool,
    #[prost(int64, tag = "4")]
    count: i64,
}

#[derive(Clone, PartialEq, Message)]
struct HashKvRequest {
    #[prost(int64, tag = "1")]
    revision: i64,
}

/// A hash over all keys up to a revision.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct HashKv {
    #[prost(message, optional, tag = "1")]
    header: Option<Header>,
    #[prost(uint32, tag = "2")]
    pub hash: u32,
    /// Up to which revision history is compacted: it is not in the hash.
    #[prost(int64, tag = "3")]
    pub compacted: i64,
    #[prost(int64, tag = "4")]
    pub revision: i64,
}

#[derive(Clone, PartialEq, Message)]
struct SnapshotPart {
    #[prost(bytes = "vec", tag = "3")]
    blob: Vec<u8>,
}

#[derive(Clone, PartialEq, Message)]
struct HeaderOnly {
    #[prost(message, optional, tag = "1")]
    header: Option<Header>,
}

#[derive(Clone, PartialEq, Message)]
struct LeaseGrantRequest {
    #[prost(int64, tag = "1")]
    seconds: i64,
}

#[derive(Clone, PartialEq, Message)]
struct LeaseRevokeRequest {
    #[prost(int64, tag = "1")]
    id: i64,
}

#[derive(Clone, PartialEq, Message)]
struct LeaseGrantResponse {
    #[prost(int64, tag = "2")]
    id: i64,
}

#[derive(Clone, PartialEq, Message)]
struct Empty {}

#[derive(Clone, PartialEq, Message)]
struct StatusResponse {
    #[prost(message, optional, tag = "1")]
    header: Option<Header>,
    #[prost(string, tag = "2")]
    version: String,
    #[prost(int64, tag = "3")]
    db_size: i64,
    #[prost(uint64, tag = "4")]
    leader: u64,
    #[prost(uint64, tag = "5")]
    raft_index: u64,
    #[prost(string, repeated, tag = "8")]
    errors: Vec<String>,
    #[prost(int64, tag = "9")]
    in_use: i64,
}

/// A member's version and database, and what it complains of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Database {
    /// The member's version.
    pub version: String,
    /// Size of the file, in octets.
    pub size: i64,
    /// How much of it is in use.
    pub in_use: i64,
    /// Alarms, as etcd words them.
    pub alarms: Vec<String>,
    /// The newest revision.
    pub revision: i64,
}

#[derive(Clone, PartialEq, Message)]
struct CompactionRequest {
    #[prost(int64, tag = "1")]
    revision: i64,
    #[prost(bool, tag = "2")]
    physical: bool,
}

/// `AlarmRequest`: what to do, about whose alarm, and which.
#[derive(Clone, PartialEq, Message)]
struct AlarmRequest {
    #[prost(int32, tag = "1")]
    action: i32,
    #[prost(uint64, tag = "2")]
    member: u64,
    #[prost(int32, tag = "3")]
    alarm: i32,
}

#[derive(Clone, PartialEq, Message)]
struct MemberListRequest {
    #[prost(bool, tag = "1")]
    linearizable: bool,
}

/// A member, as the quorum's own list has it.
#[derive(Clone, PartialEq, Message)]
pub(crate) struct Member {
    #[prost(uint64, tag = "1")]
    pub id: u64,
    #[prost(string, tag = "2")]
    pub name: String,
    #[prost(string, repeated, tag = "3")]
    pub peer_urls: Vec<String>,
    #[prost(bool, tag = "5")]
    pub is_learner: bool,
}

#[derive(Clone, PartialEq, Message)]
struct MemberAddRequest {
    #[prost(string, repeated, tag = "1")]
    peer_urls: Vec<String>,
    #[prost(bool, tag = "2")]
    is_learner: bool,
}

/// What names one member and says no more: `MemberRemoveRequest`, `MemberPromoteRequest`, `MoveLeaderRequest`.
#[derive(Clone, PartialEq, Message)]
struct MemberId {
    #[prost(uint64, tag = "1")]
    id: u64,
}

#[derive(Clone, PartialEq, Message)]
struct MemberUpdateRequest {
    #[prost(uint64, tag = "1")]
    id: u64,
    #[prost(string, repeated, tag = "2")]
    peer_urls: Vec<String>,
}

#[derive(Clone, PartialEq, Message)]
struct MemberListResponse {
    #[prost(message, optional, tag = "1")]
    header: Option<Header>,
    #[prost(message, repeated, tag = "2")]
    members: Vec<Member>,
}

/// A connection to one member.
#[derive(Debug)]
pub(crate) struct EtcdClient {
    channel: Channel,
}

/// Deadline of one call, where nothing is known to take longer.
pub(crate) const CALL: Duration = Duration::from_secs(10);
/// How many octets an answer may have: a page of values of the largest size that etcd takes.
const LARGEST: usize = 256 << 20;
/// How many octets may be on the way at once.
const WINDOW: u32 = 16 << 20;
/// How many keys a page has.
const PAGE: i64 = 100;
/// For how long a stream may be silent.
const SILENCE: Duration = Duration::from_secs(60);

impl EtcdClient {
    /// Connects to the member that a way leads to, verified as `name`; each call ends within `deadline`.
    pub async fn connect(
        access: &Access,
        name: &str,
        way: Arc<dyn Dial>,
        deadline: Duration,
    ) -> Result<Self, String> {
        let server = ServerName::try_from(name.to_owned()).map_err(|e| e.to_string())?;
        let tls = TlsConnector::from(access.tls(&[b"h2"])?);
        let connector = tower::service_fn(move |_| {
            let (way, tls, server) = (Arc::clone(&way), tls.clone(), server.clone());
            async move { way.connect(&tls, &server).await.map(hyper_util::rt::TokioIo::new) }
        });
        // What is secret and verified lies beneath: HTTP/2 is spoken in it as it is.
        let channel = Endpoint::from_static("http://etcd")
            .connect_timeout(CALL)
            .timeout(deadline)
            // A snapshot is a long stream: with the usual 64 KiB on the way at once it waits at every turn.
            .initial_stream_window_size(WINDOW)
            .initial_connection_window_size(WINDOW)
            .connect_with_connector(connector)
            .await
            .map_err(|e| chain(&e))?;
        Ok(Self { channel })
    }

    /// Connects to a member on this machine that listens on a socket in a folder of its own.
    pub async fn connect_here(socket: &std::path::Path) -> Result<Self, String> {
        let path = socket.to_owned();
        let connector = tower::service_fn(move |_| {
            let path = path.clone();
            async move {
                let stream = tokio::net::UnixStream::connect(path).await?;
                Ok::<_, std::io::Error>(hyper_util::rt::TokioIo::new(stream))
            }
        });
        let endpoint = Endpoint::from_static("http://etcd").connect_timeout(CALL).timeout(SILENCE);
        let channel =
            endpoint.connect_with_connector(connector).await.map_err(|error| chain(&error))?;
        Ok(Self { channel })
    }

    async fn call<Q, A>(&self, path: &'static str, request: Q) -> Result<A, String>
    where
        Q: Message + Send + Sync + 'static,
        A: Message + Default + Send + Sync + 'static,
    {
        let mut grpc =
            tonic::client::Grpc::new(self.channel.clone()).max_decoding_message_size(LARGEST);
        grpc.ready().await.map_err(|e| chain(&e))?;
        let codec = tonic_prost::ProstCodec::<Q, A>::default();
        let path = http::uri::PathAndQuery::from_static(path);
        grpc.unary(tonic::Request::new(request), path, codec)
            .await
            .map(tonic::Response::into_inner)
            .map_err(|status| status.message().to_owned())
    }

    /// The same, where the answer says no more than that it was done.
    async fn tell<Q>(&self, path: &'static str, request: Q) -> Result<(), String>
    where
        Q: Message + Send + Sync + 'static,
    {
        self.call::<Q, HeaderOnly>(path, request).await.map(|_| ())
    }

    async fn status(&self) -> Result<StatusResponse, String> {
        self.call("/etcdserverpb.Maintenance/Status", Empty {}).await
    }

    /// What the member says of itself and the others.
    pub async fn answer(&self) -> Result<MemberAnswer, String> {
        let status = self.status().await?;
        let members = self.members().await?;
        let header = status.header.unwrap_or_default();
        Ok(MemberAnswer {
            cluster_id: header.cluster_id,
            member_id: header.member_id,
            leader: status.leader,
            members: members.into_iter().map(|m| (m.id, m.name)).collect(),
        })
    }

    /// All members, by the quorum's word.
    pub async fn members(&self) -> Result<Vec<Member>, String> {
        let request = MemberListRequest { linearizable: true };
        let list: MemberListResponse =
            self.call("/etcdserverpb.Cluster/MemberList", request).await?;
        Ok(list.members)
    }

    /// Lets a member in as a learner that the others will dial there.
    pub async fn add_learner(&self, url: &str) -> Result<(), String> {
        let request = MemberAddRequest { peer_urls: vec![url.to_owned()], is_learner: true };
        self.tell("/etcdserverpb.Cluster/MemberAdd", request).await
    }

    /// Gives a learner its vote; etcd refuses while it has not caught up.
    pub async fn promote(&self, id: u64) -> Result<(), String> {
        self.tell("/etcdserverpb.Cluster/MemberPromote", MemberId { id }).await
    }

    /// Takes a member out.
    pub async fn remove(&self, id: u64) -> Result<(), String> {
        self.tell("/etcdserverpb.Cluster/MemberRemove", MemberId { id }).await
    }

    /// Has the others dial a member elsewhere.
    pub async fn move_to(&self, id: u64, url: &str) -> Result<(), String> {
        let request = MemberUpdateRequest { id, peer_urls: vec![url.to_owned()] };
        self.tell("/etcdserverpb.Cluster/MemberUpdate", request).await
    }

    /// Asked of the leader: another one leads from now on.
    pub async fn lead_by(&self, id: u64) -> Result<(), String> {
        self.tell("/etcdserverpb.Maintenance/MoveLeader", MemberId { id }).await
    }

    /// How far its log goes, in entries.
    pub async fn index(&self) -> Result<u64, String> {
        let status = self.status().await?;
        Ok(status.raft_index)
    }

    /// A hash over all keys up to a revision; 0 means the newest.
    pub async fn hash(&self, revision: i64) -> Result<HashKv, String> {
        self.call("/etcdserverpb.Maintenance/HashKV", HashKvRequest { revision }).await
    }

    /// How many keys there are.
    pub async fn count(&self) -> Result<u64, String> {
        // From the first key on, to the last.
        let all = RangeRequest {
            key: vec![0],
            range_end: vec![0],
            count_only: true,
            ..RangeRequest::default()
        };
        let found: RangeResponse = self.call("/etcdserverpb.KV/Range", all).await?;
        Ok(u64::try_from(found.count).unwrap_or(0))
    }

    /// The keys below a prefix, without it, whose values do not begin so.
    pub async fn keys_without(
        &self,
        prefix: &str,
        beginning: &[u8],
    ) -> Result<Vec<String>, String> {
        let mut key = prefix.as_bytes().to_vec();
        let mut range_end = key.clone();
        // All keys with a prefix end before the one whose last octet is the next (`clientv3.GetPrefixRangeEnd`).
        if let Some(last) = range_end.last_mut() {
            *last += 1;
        }
        let mut out = Vec::new();
        loop {
            let page = RangeRequest {
                key: key.clone(),
                range_end: range_end.clone(),
                limit: PAGE,
                ..RangeRequest::default()
            };
            let found: RangeResponse = self.call("/etcdserverpb.KV/Range", page).await?;
            let otherwise = found.kvs.iter().filter(|kv| !kv.value.starts_with(beginning));
            out.extend(otherwise.map(|kv| {
                let name = kv.key.strip_prefix(prefix.as_bytes()).unwrap_or(&kv.key);
                String::from_utf8_lossy(name).into_owned()
            }));
            match found.kvs.last().filter(|_| found.more) {
                Some(last) => key = [&last.key[..], &[0]].concat(),
                None => return Ok(out),
            }
        }
    }

    /// Everything that it holds, as a stream: its data, and the SHA-256 of that as the last 32 octets. Each part is
    /// given to `take`, whose error ends it.
    pub async fn snapshot(
        &self,
        mut take: impl FnMut(&[u8]) -> Result<(), String> + Send,
    ) -> Result<(), String> {
        let mut grpc = tonic::client::Grpc::new(self.channel.clone());
        grpc.ready().await.map_err(|e| chain(&e))?;
        let codec = tonic_prost::ProstCodec::<Empty, SnapshotPart>::default();
        let path = http::uri::PathAndQuery::from_static("/etcdserverpb.Maintenance/Snapshot");
        let told = |status: tonic::Status| status.message().to_owned();
        let answer = grpc.server_streaming(tonic::Request::new(Empty {}), path, codec).await;
        let mut stream = answer.map_err(told)?.into_inner();
        loop {
            let next = tokio::time::timeout(SILENCE, stream.message());
            let silent = |_| format!("nothing came for {} seconds", SILENCE.as_secs());
            match next.await.map_err(silent)?.map_err(told)? {
                Some(part) => take(&part.blob)?,
                None => return Ok(()),
            }
        }
    }

    /// What of its database can be known.
    pub async fn database(&self) -> Result<Database, String> {
        let status = self.status().await?;
        Ok(Database {
            version: status.version,
            size: status.db_size,
            in_use: status.in_use,
            alarms: status.errors,
            revision: status.header.unwrap_or_default().revision,
        })
    }

    /// Forgets history before a revision, in all members; ends when it is really gone.
    pub async fn compact(&self, revision: i64) -> Result<(), String> {
        self.tell("/etcdserverpb.KV/Compact", CompactionRequest { revision, physical: true }).await
    }

    /// Has the member write its database again, without what is not in use. It answers no client meanwhile.
    pub async fn defragment(&self) -> Result<(), String> {
        self.tell("/etcdserverpb.Maintenance/Defragment", Empty {}).await
    }

    /// Takes a member's alarm back that there is no room; each has its own.
    pub async fn there_is_room(&self, member: u64) -> Result<(), String> {
        let (deactivate, no_space) = (2, 1);
        let request = AlarmRequest { action: deactivate, member, alarm: no_space };
        self.tell("/etcdserverpb.Maintenance/Alarm", request).await
    }

    /// The id of the member that leads, as this one knows; 0 where none does.
    pub async fn leader(&self) -> Result<u64, String> {
        let status = self.status().await?;
        Ok(status.leader)
    }

    /// Writes a key under a lease of `seconds`, so that it goes by itself should this run be cut off.
    /// Returns the lease.
    pub async fn put(&self, key: &str, value: &str, seconds: i64) -> Result<i64, String> {
        let lease: LeaseGrantResponse =
            self.call("/etcdserverpb.Lease/LeaseGrant", LeaseGrantRequest { seconds }).await?;
        let request = PutRequest { key: key.into(), value: value.into(), lease: lease.id };
        let _: HeaderOnly = self.call("/etcdserverpb.KV/Put", request).await?;
        Ok(lease.id)
    }

    /// Reads a key, linearizably.
    pub async fn get(&self, key: &str) -> Result<Option<String>, String> {
        let found: RangeResponse = self
            .call(
                "/etcdserverpb.KV/Range",
                RangeRequest { key: key.into(), ..RangeRequest::default() },
            )
            .await?;
        Ok(found.kvs.first().map(|kv| String::from_utf8_lossy(&kv.value).into_owned()))
    }

    /// Ends a lease, and with it the keys under it.
    pub async fn revoke(&self, lease: i64) -> Result<(), String> {
        let _: HeaderOnly =
            self.call("/etcdserverpb.Lease/LeaseRevoke", LeaseRevokeRequest { id: lease }).await?;
        Ok(())
    }
}

/// An error with its causes: the transport's own first line says little.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        let cause_text = cause.to_string();
        if !text.contains(&cause_text) {
            text = format!("{text}: {cause_text}");
        }
        source = cause.source();
    }
    text
}
