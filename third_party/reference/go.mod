module github.com/distribution/reference

go 1.21

require github.com/opencontainers/go-digest v1.0.0
