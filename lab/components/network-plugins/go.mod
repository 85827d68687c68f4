module saltmarsh.example/lab/network-plugins

go 1.25.0

tool (
	github.com/containernetworking/plugins/plugins/ipam/host-local
	github.com/containernetworking/plugins/plugins/main/bridge
	github.com/containernetworking/plugins/plugins/main/loopback
	github.com/containernetworking/plugins/plugins/meta/portmap
)

require (
	github.com/alexflint/go-filemutex v1.3.0 // indirect
	github.com/containernetworking/cni v1.3.0 // indirect
	github.com/containernetworking/plugins v1.9.1 // indirect
	github.com/coreos/go-iptables v0.8.0 // indirect
	github.com/mattn/go-shellwords v1.0.12 // indirect
	github.com/networkplumbing/go-nft v0.4.0 // indirect
	github.com/pkg/errors v0.9.1 // indirect
	github.com/safchain/ethtool v0.6.2 // indirect
	github.com/vishvananda/netlink v1.3.1 // indirect
	github.com/vishvananda/netns v0.0.5 // indirect
	golang.org/x/sys v0.35.0 // indirect
	sigs.k8s.io/knftables v0.0.18 // indirect
)
