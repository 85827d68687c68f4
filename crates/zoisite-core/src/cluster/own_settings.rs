//! Settings of components that Zoisite computes: a person's own may not clash with them. Tests of `holdings` hold
//! each list against what is really written.

/// Fields of etcd's configuration file that Zoisite computes; a person's own settings may not clash
/// with them. (The tests of `holdings::etcd` hold this list against the generated file.)
pub(crate) const ETCD_OWN: &[&str] = &[
    "name",
    "data-dir",
    "listen-peer-urls",
    "listen-client-http-urls",
    "listen-client-urls",
    "advertise-client-urls",
    "listen-metrics-urls",
    "client-transport-security",
    "peer-transport-security",
    "initial-advertise-peer-urls",
    "initial-cluster",
    "initial-cluster-token",
    "initial-cluster-state",
    "strict-reconfig-check",
    "enable-grpc-gateway",
];

/// Flags of the API server that Zoisite computes; a person's own settings may not clash with them.
pub(crate) const API_SERVER_OWN: &[&str] = &[
    "advertise-address",
    "anonymous-auth",
    "authentication-config",
    "authorization-mode",
    "bind-address",
    "client-ca-file",
    "enable-bootstrap-token-auth",
    "encryption-provider-config",
    "etcd-cafile",
    "etcd-certfile",
    "etcd-keyfile",
    "etcd-servers",
    "kubelet-certificate-authority",
    "kubelet-client-certificate",
    "kubelet-client-key",
    "kubelet-preferred-address-types",
    "proxy-client-cert-file",
    "proxy-client-key-file",
    "requestheader-allowed-names",
    "requestheader-client-ca-file",
    "requestheader-extra-headers-prefix",
    "requestheader-group-headers",
    "requestheader-username-headers",
    "secure-port",
    "service-account-issuer",
    "service-account-key-file",
    "service-account-signing-key-file",
    "service-cluster-ip-range",
    "tls-cert-file",
    "tls-private-key-file",
];

/// Flags of the controller manager that Zoisite computes.
pub(crate) const CONTROLLER_MANAGER_OWN: &[&str] = &[
    "allocate-node-cidrs",
    "authentication-kubeconfig",
    "authorization-kubeconfig",
    "cluster-signing-cert-file",
    "cluster-signing-key-file",
    "controllers",
    "kubeconfig",
    "root-ca-file",
    "service-cluster-ip-range",
    "use-service-account-credentials",
];

/// Fields of the scheduler's configuration that Zoisite computes.
pub(crate) const SCHEDULER_OWN: &[&str] = &["apiVersion", "kind", "clientConnection"];

/// Fields of the audit policy that Zoisite computes.
pub(crate) const AUDIT_POLICY_OWN: &[&str] = &["apiVersion", "kind"];

/// Fields of `AuthenticationConfiguration` that Zoisite computes.
pub(crate) const AUTHENTICATION_OWN: &[&str] = &["apiVersion", "kind", "anonymous"];

/// Fields of the kubelet's configuration that Zoisite computes; own settings may not clash with them.
pub(crate) const KUBELET_OWN: &[&str] = &[
    "apiVersion",
    "authentication",
    "authorization",
    "cgroupDriver",
    "clusterDNS",
    "clusterDomain",
    "containerRuntimeEndpoint",
    "failCgroupV1",
    "kind",
    "registerWithTaints",
    "rotateCertificates",
    "serverTLSBootstrap",
    "staticPodPath",
    "tlsCertFile",
    "tlsPrivateKeyFile",
];

/// Fields of kube-proxy's configuration that Zoisite computes.
pub(crate) const KUBE_PROXY_OWN: &[&str] =
    &["apiVersion", "kind", "bindAddress", "clientConnection", "clusterCIDR", "hostnameOverride"];

/// Fields of containerd's configuration that Zoisite computes.
pub(crate) const RUNTIME_OWN: &[&str] = &["version", "imports"];
