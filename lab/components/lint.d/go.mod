module saltmarsh.example/lab/lint

go 1.26

tool github.com/zmap/zlint/v3/cmd/zlint

replace github.com/weppos/publicsuffix-go => github.com/weppos/publicsuffix-go v0.50.3

require (
	github.com/pelletier/go-toml v1.9.5 // indirect
	github.com/sirupsen/logrus v1.10.2 // indirect
	github.com/weppos/publicsuffix-go v0.50.4-0.20260821095816-b0fdb5c2d345 // indirect
	github.com/zmap/zcrypto v0.0.0-20260906180147-3ed30b1e9340 // indirect
	github.com/zmap/zlint/v3 v3.7.3 // indirect
	golang.org/x/crypto v0.55.0 // indirect
	golang.org/x/net v0.58.0 // indirect
	golang.org/x/sys v0.47.0 // indirect
	golang.org/x/text v0.41.0 // indirect
)
