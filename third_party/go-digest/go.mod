module github.com/opencontainers/go-digest

go 1.21
