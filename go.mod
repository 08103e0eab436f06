module gentle-harbor

go 1.26.0

require (
	github.com/creack/pty v1.1.24
	github.com/dustin/go-humanize v1.1.0
	github.com/go-sql-driver/mysql v1.10.1
	github.com/gofrs/flock v0.13.1
	github.com/jackc/pgx/v5 v5.12.0
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/shirou/gopsutil/v4 v4.26.10
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/sync v0.25.0
	golang.org/x/term v0.47.0
	modernc.org/sqlite v1.61.1
)

require (
	github.com/Microsoft/go-winio v0.6.2
	github.com/compose-spec/compose-go/v2 v2.16.2
	github.com/containerd/errdefs v1.0.0
	github.com/distribution/reference v0.6.0
	github.com/getkin/kin-openapi v0.153.0
	github.com/lib/pq v1.12.3
	github.com/moby/moby/api v1.57.0
	github.com/moby/moby/client v0.6.3
	github.com/peterhellberg/link v1.2.0
	github.com/reeflective/readline v1.3.0
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/sijms/go-ora/v2 v2.8.24
	github.com/sirupsen/logrus v1.10.1
	go.mongodb.org/mongo-driver/v2 v2.10.0
	golang.org/x/image v0.48.0
	golang.org/x/net v0.57.0
	golang.org/x/oauth2 v0.38.0
	rsc.io/qr v0.2.0
)

require (
	github.com/containerd/errdefs/pkg v0.3.0 // indirect
	github.com/docker/go-connections v0.8.2 // indirect
	github.com/docker/go-units v0.5.0 // indirect
	github.com/felixge/httpsnoop v1.0.4 // indirect
	github.com/go-logr/logr v1.4.2 // indirect
	github.com/go-logr/stdr v1.2.2 // indirect
	github.com/go-openapi/jsonpointer v1.0.2 // indirect
	github.com/go-viper/mapstructure/v2 v2.4.0 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/mattn/go-shellwords v1.0.12 // indirect
	github.com/moby/docker-image-spec v1.3.1 // indirect
	github.com/opencontainers/go-digest v1.0.0 // indirect
	github.com/opencontainers/image-spec v1.1.1 // indirect
	github.com/xdg-go/scram v1.4.0 // indirect
	github.com/xdg-go/stringprep v1.0.4 // indirect
	github.com/xhit/go-str2duration/v2 v2.1.0 // indirect
	github.com/youmark/pkcs8 v0.0.0-20240726163527-a2c0da244d78 // indirect
	go.opentelemetry.io/auto/sdk v1.1.0 // indirect
	go.opentelemetry.io/contrib/instrumentation/net/http/otelhttp v0.60.0 // indirect
	go.opentelemetry.io/otel v1.35.0 // indirect
	go.opentelemetry.io/otel/metric v1.35.0 // indirect
	go.opentelemetry.io/otel/trace v1.35.0 // indirect
	go.yaml.in/yaml/v4 v4.0.0 // indirect
)

require (
	filippo.io/age v1.3.2
	filippo.io/edwards25519 v1.2.0 // indirect
	filippo.io/hpke v0.4.0 // indirect
	github.com/danieljoos/wincred v1.2.3 // indirect
	github.com/ebitengine/purego v0.11.2 // indirect
	github.com/go-ole/go-ole v1.2.6 // indirect
	github.com/godbus/dbus/v5 v5.2.2 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/joho/godotenv v1.5.1
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/power-devops/perfstat v0.0.0-20260805114148-88456608a4f6 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/yusufpapurcu/wmi v1.2.4 // indirect
	github.com/zalando/go-keyring v0.2.8
	golang.org/x/crypto v0.55.0
	golang.org/x/sys v0.50.0
	golang.org/x/text v0.44.0
	modernc.org/libc v1.79.0 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
