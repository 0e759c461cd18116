#!/usr/bin/env bash
# Builds the program.
#
#   ./build.sh           dist/runcrowd, for this machine
#   ./build.sh release   dist/: static binaries for Linux (amd64, arm64), macOS (amd64,
#                        arm64) and Windows (amd64), with manual pages, completions of
#                        shells, a list of what they are made of (CycloneDX), and checksums
set -euo pipefail
cd "$(dirname "$0")"
export CGO_ENABLED=0
commit=$(git rev-parse --short=12 HEAD 2>/dev/null || true)
[ -z "$commit" ] || [ -z "$(git status --porcelain)" ] || commit=$commit+

build() { # build OUT
  go build -trimpath -ldflags "-s -w -X runcrowd/internal/cli.builtOf=$commit" -o "$1" ./cmd/runcrowd
}

case "${1:-}" in
"")
  build dist/runcrowd
  dist/runcrowd --version
  ;;
release)
  rm -rf dist
  for target in linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64; do
    os=${target%/*} arch=${target#*/} ending=
    [ "$os" = windows ] && ending=.exe
    echo "building for $target"
    GOOS=$os GOARCH=$arch build "dist/runcrowd-$os-$arch$ending"
  done
  echo "manual pages and completions"
  go run ./cmd/release man dist/man
  build dist/here
  mkdir -p dist/completions
  for shell in bash zsh fish powershell; do
    dist/here completion $shell > "dist/completions/runcrowd.$shell"
  done
  rm dist/here
  go run ./cmd/release sbom dist/runcrowd-linux-amd64 > dist/runcrowd.cdx.json
  tar -C dist -czf dist/runcrowd-man-and-completions.tar.gz man completions
  (cd dist && sha256sum runcrowd* > SHA256SUMS && cat SHA256SUMS)
  ;;
*)
  echo "usage: ./build.sh [release]" >&2
  exit 2
  ;;
esac
