module saltmarsh.example/lab/runc

go 1.26.0

tool github.com/opencontainers/runc

require (
	cyphar.com/go-pathrs v0.2.6 // indirect
	github.com/aperturerobotics/protobuf-go-lite v0.14.0 // indirect
	github.com/checkpoint-restore/go-criu/v8 v8.3.0 // indirect
	github.com/cilium/ebpf v0.17.3 // indirect
	github.com/containerd/console v1.0.5 // indirect
	github.com/coreos/go-systemd/v22 v22.7.0 // indirect
	github.com/cpuguy83/go-md2man/v2 v2.0.7 // indirect
	github.com/cyphar/filepath-securejoin v0.7.0 // indirect
	github.com/docker/go-units v0.5.0 // indirect
	github.com/godbus/dbus/v5 v5.2.2 // indirect
	github.com/moby/sys/capability v0.4.0 // indirect
	github.com/moby/sys/mountinfo v0.7.2 // indirect
	github.com/moby/sys/user v0.4.0 // indirect
	github.com/moby/sys/userns v0.2.1 // indirect
	github.com/mrunalp/fileutils v0.5.1 // indirect
	github.com/opencontainers/cgroups v0.1.0 // indirect
	github.com/opencontainers/runc v1.5.2 // indirect
	github.com/opencontainers/runtime-spec v1.3.0 // indirect
	github.com/opencontainers/selinux v1.13.1 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/seccomp/libseccomp-golang v0.12.0 // indirect
	github.com/sirupsen/logrus v1.9.4 // indirect
	github.com/urfave/cli v1.22.17 // indirect
	github.com/vishvananda/netlink v1.3.1 // indirect
	github.com/vishvananda/netns v0.0.5 // indirect
	golang.org/x/net v0.55.0 // indirect
	golang.org/x/sys v0.46.0 // indirect
)
