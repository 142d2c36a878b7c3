module fiume

go 1.26.8

require (
	github.com/cespare/xxhash/v2 v2.3.0
	github.com/go-sql-driver/mysql v1.10.1
	github.com/spf13/cobra v1.10.2
	github.com/twmb/franz-go/pkg/kmsg v1.15.0
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
)
