module vessik

go 1.26.0

ignore ./console/node_modules

require (
	github.com/boombuler/barcode v1.1.0
	github.com/chromedp/cdproto v0.159.0
	github.com/chromedp/chromedp v0.23.0
	github.com/coder/websocket v1.8.15
	github.com/creack/pty v1.1.24
	github.com/danielgtaylor/huma/v2 v2.37.2
	github.com/emersion/go-imap/v2 v2.0.0-beta.8
	github.com/emersion/go-message v0.18.2
	github.com/emersion/go-sasl v0.0.0-20241020182733-b788ff22d5a6
	github.com/emersion/go-smtp v0.25.1
	github.com/go-sql-driver/mysql v1.10.1
	github.com/goccy/go-yaml v1.19.2
	github.com/hashicorp/yamux v0.1.2
	github.com/jlaffaye/ftp v0.2.4
	github.com/klauspost/compress v1.20.3
	github.com/labstack/echo/v4 v4.16.0
	github.com/landlock-lsm/go-landlock v0.11.0
	github.com/miekg/dns v1.1.73
	github.com/pkg/sftp v1.13.12
	github.com/pquerna/otp v1.5.0
	github.com/pressly/goose/v3 v3.29.0
	github.com/stretchr/testify v1.12.1
	github.com/temoto/robotstxt v1.1.2
	github.com/ulikunitz/xz v0.5.17
	github.com/vbauerster/mpb/v8 v8.9.3
	go.yaml.in/yaml/v3 v3.0.5
	goftp.io/server/v2 v2.0.3
	golang.org/x/crypto v0.58.0
	golang.org/x/image v0.48.0
	golang.org/x/net v0.62.0
	golang.org/x/oauth2 v0.38.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.47.0
	golang.org/x/text v0.44.0
	pgregory.net/rapid v1.3.0
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/VividCortex/ewma v1.2.0 // indirect
	github.com/acarl005/stripansi v0.0.0-20180116102854-5a71ef0e047d // indirect
	github.com/ashanbrown/forbidigo/v2 v2.3.1 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/google/go-cmp v0.7.0 // indirect
	github.com/kr/fs v0.1.0 // indirect
	github.com/labstack/gommon v0.5.0 // indirect
	github.com/mattn/go-colorable v0.1.15 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mattn/go-runewidth v0.0.20 // indirect
	github.com/mfridman/interpolate v0.0.2 // indirect
	github.com/nishanths/exhaustive v0.12.0 // indirect
	github.com/polyfloyd/go-errorlint v1.8.0 // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	github.com/valyala/bytebufferpool v1.0.0 // indirect
	github.com/valyala/fasttemplate v1.2.2 // indirect
	go.uber.org/multierr v1.11.0 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	kernel.org/pub/linux/libs/security/libcap/psx v1.2.77 // indirect
)

tool (
	github.com/ashanbrown/forbidigo/v2
	github.com/nishanths/exhaustive/cmd/exhaustive
	github.com/polyfloyd/go-errorlint
	honnef.co/go/tools/cmd/staticcheck
)
