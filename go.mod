module gentleharbor

go 1.26.0

require (
	github.com/compose-spec/compose-go/v2 v2.16.2
	github.com/go-sql-driver/mysql v1.10.1
	github.com/godbus/dbus/v5 v5.2.4
	github.com/gofrs/flock v0.13.2
	github.com/jackc/pgx/v5 v5.13.0
	github.com/lib/pq v1.12.3
	github.com/pelletier/go-toml/v2 v2.4.3
	github.com/reeflective/readline v1.3.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/sijms/go-ora/v2 v2.8.24
	github.com/sirupsen/logrus v1.10.2
	github.com/xdg-go/scram v1.4.0
	github.com/xdg-go/stringprep v1.0.4
	github.com/youmark/pkcs8 v0.0.0-20240726163527-a2c0da244d78
	github.com/zalando/go-keyring v0.2.8
	go.mongodb.org/mongo-driver/v2 v2.10.0
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.58.0
	golang.org/x/oauth2 v0.38.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	golang.org/x/text v0.44.0
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/danieljoos/wincred v1.2.3 // indirect
	github.com/distribution/reference v0.5.0 // indirect
	github.com/docker/go-connections v0.4.0 // indirect
	github.com/docker/go-units v0.5.0 // indirect
	github.com/go-viper/mapstructure/v2 v2.4.0 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/mattn/go-shellwords v1.0.12 // indirect
	github.com/opencontainers/go-digest v1.0.0 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/xhit/go-str2duration/v2 v2.1.0 // indirect
	go.yaml.in/yaml/v4 v4.0.0-rc.4 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.43.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/telemetry v0.0.0-20261010193011-f71dc92da45e // indirect
	golang.org/x/tools v0.52.0 // indirect
	golang.org/x/vuln v1.9.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool (
	golang.org/x/vuln/cmd/govulncheck
	honnef.co/go/tools/cmd/staticcheck
)
