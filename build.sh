#!/usr/bin/env bash
# Builds the program.
#
#   ./build.sh           dist/runcrowd, for this machine
#   ./build.sh release   dist/: static binaries for Linux (amd64, arm64), macOS (amd64,
#                        arm64) and Windows (amd64), with manual pages, completions of
#                        shells, a list of what they are made of (CycloneDX), the licence
#                        texts of all that, what the Containerfile needs, and checksums.
#                        The same commit makes the same files.
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
  go run ./cmd/release licences dist/runcrowd-linux-amd64 > dist/runcrowd-licences.txt
  # The authorities that the image trusts: those of this machine.
  cp /etc/ssl/certs/ca-certificates.crt dist/ca-certificates.crt
  # Names in order, one time, no owner: the same archive each time.
  tar -C dist --sort=name --mtime="@$(git log -1 --format=%ct)" --owner=0 --group=0 --numeric-owner --mode=go=rX,u+rw,a-s \
    -cf - man completions | gzip -n9 > dist/runcrowd-man-and-completions.tar.gz
  (cd dist && sha256sum runcrowd* > SHA256SUMS && cat SHA256SUMS)
  ;;
*)
  echo "usage: ./build.sh [release]" >&2
  exit 2
  ;;
esac
