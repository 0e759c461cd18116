#!/usr/bin/env bash
# Runs everything that must hold before a change lands: vet, staticcheck, all
# tests with the race detector, and the build of the static program. It installs
# what the machine lacks (a C compiler for the race detector, and servers that we did
# not write: the brokers Mosquitto, RabbitMQ and ejabberd, the web server nginx, the
# databases PostgreSQL and MariaDB, and the browser Chromium).
set -euo pipefail
cd "$(dirname "$0")"

need() { # need COMMAND PACKAGE
  if command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ] || compgen -G "/usr/lib/postgresql/*/bin/$1" >/dev/null; then return; fi
  echo "Installing $2 …"
  local sudo=
  [ "$(id -u)" = 0 ] || sudo=sudo
  [ -n "${updated:-}" ] || { $sudo apt-get update -qq; updated=1; }
  DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq "$2" >/dev/null
}
need go golang-go
need gcc gcc
need mosquitto mosquitto
need nginx nginx-light
need rabbitmq-server rabbitmq-server
need ejabberdctl ejabberd
need postgres postgresql
need mariadbd mariadb-server
need chromium chromium

echo "go vet";      go vet ./...
echo "gofmt";       test -z "$(gofmt -l . | tee /dev/stderr)"
echo "staticcheck"; go tool staticcheck ./...
# Built first: a compiler at work beside them makes tests of timing slow.
echo "building the tests"; CGO_ENABLED=1 go test -race -run '^$' ./... >/dev/null
echo "go test"
# With this set, a test that needs a real server fails where it is missing. The longest
# comes first: the others run beside it.
RUNCROWD_REAL=1 CGO_ENABLED=1 go test -race -timeout 15m "$@" ./internal/run ./internal/cli ./...
echo "static build"
./build.sh
for os in windows darwin; do echo "go vet for $os"; GOOS=$os CGO_ENABLED=0 go vet ./...; done
