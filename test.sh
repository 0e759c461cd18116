#!/usr/bin/env bash
# Runs everything that must hold before a change lands: vet, staticcheck, all tests, a part of
# them with the race detector, and the build of the static program.
#
#   ./test.sh                 installs with apt what is missing, and says what, first
#   ./test.sh --no-install    installs nothing; says what it skips
#   ./test.sh -run Name       arguments go to go test
#   ./test.sh cluster         only a crowd in parts on a real Slurm, on this machine, in two minutes
#
# The tests need a C compiler (for the race detector) and servers that we did not write: the
# brokers Mosquitto, RabbitMQ and ejabberd, the web server nginx, the databases PostgreSQL and
# MariaDB, the browser Chromium, and the scheduler Slurm. They start them themselves, on free ports.
set -euo pipefail
cd "$(dirname "$0")"

install=yes
if [ "${1:-}" = --no-install ]; then install=; shift; fi
cluster=
if [ "${1:-}" = cluster ]; then cluster=1; shift; fi

missing=()
need() { # need COMMAND PACKAGE
  if command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ] || compgen -G "/usr/lib/postgresql/*/bin/$1" >/dev/null; then return; fi
  missing+=("$2")
}
need go golang-go
if [ -z "$cluster" ]; then
  need gcc gcc
  need mosquitto mosquitto
  need nginx nginx-light
  need rabbitmq-server rabbitmq-server
  need ejabberdctl ejabberd
  need postgres postgresql
  need mariadbd mariadb-server
  need chromium chromium
fi
slurm=
if [ "$(id -u)" = 0 ]; then # its daemons want to be root
  slurm=1
  need munged munge
  need slurmctld slurmctld
  need slurmd slurmd
  need sbatch slurm-client
fi

# With this set, a test that needs a real server fails where it is missing.
real=1
if [ ${#missing[@]} -gt 0 ]; then
  if [ -n "$install" ]; then
    echo "Installing with apt: ${missing[*]}"
    sudo=
    [ "$(id -u)" = 0 ] || sudo=sudo
    $sudo apt-get update -qq
    DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq "${missing[@]}" >/dev/null
  else
    echo "Not installed: ${missing[*]}. What needs one of them is skipped."
    real=
    if [[ " ${missing[*]} " == *" slurm"* || " ${missing[*]} " == *" munge "* ]]; then slurm=; fi
  fi
fi

on_slurm() {
  PATH=$PATH:/usr/sbin RUNCROWD_CLUSTER=1 CGO_ENABLED=0 go test -vet=off -count=1 -timeout 15m "$@" ./internal/jobs -run TestOnSlurm
}
if [ -n "$cluster" ] && [ -z "$slurm" ]; then
  echo "Slurm's daemons want to be root, and to be installed: run this as root, without --no-install."
  exit 1
fi
if [ -n "$cluster" ]; then
  on_slurm -v "$@"
  exit
fi

# Compiled without the paths of this machine, as the program is that build.sh makes: what did not
# change is compiled once, wherever the sources are.
export GOFLAGS=-trimpath

echo "go vet";      go vet ./...
echo "staticcheck"; go tool staticcheck ./...
echo "gofmt"; test -z "$(gofmt -l . | tee /dev/stderr)"
# Compiled first: a compiler at work beside them makes tests of timing slow.
echo "compiling the tests"
# The race detector has nothing to find where nothing runs beside something else.
beside=$(grep -rlE '^\s*go (func|[a-z])|sync\.|errgroup|\.Go\(' --include='*.go' internal | xargs -n1 dirname | sort -u | sed 's#^#./#')
# Played whole are those of which the race detector plays a part, and those that it does not play.
long="./internal/run ./internal/cli ./internal/ledger ./internal/register"
alone=$(comm -23 <(go list ./... | sed 's#^runcrowd#.#' | sort) <(echo "$beside"))
race=
if command -v gcc >/dev/null 2>&1; then
  race=1
  CGO_ENABLED=1 go list -export -test -race $beside >/dev/null
else
  alone=./...
fi
CGO_ENABLED=0 go list -export -test $long $alone >/dev/null
# A crowd in parts on a real Slurm waits most of its time, and does so beside the others.
if [ -n "$slurm" ] && [ $# = 0 ]; then
  said=$(mktemp)
  on_slurm >"$said" 2>&1 &
  beside_all=$!
else
  echo "The try on Slurm is skipped: it needs root and Slurm, and goes with no arguments."
fi
if [ -n "$race" ]; then
  # The longest comes first: the others run beside it. Of those played whole below, a part.
  echo "go test, with the race detector"
  RUNCROWD_REAL=$real CGO_ENABLED=1 go test -race -short -vet=off -timeout 25m "$@" ./internal/run ./internal/cli $beside
else
  echo "The race detector is skipped: it needs gcc."
fi
echo "go test, all of the longest, and what runs by itself"
RUNCROWD_REAL=$real CGO_ENABLED=0 go test -vet=off -timeout 25m "$@" $long $alone
if [ -n "$slurm" ] && [ $# = 0 ]; then
  echo "go test, on a real Slurm"
  wait "$beside_all" || { cat "$said"; rm "$said"; exit 1; }
  cat "$said"
  rm "$said"
fi
echo "static build"
./build.sh
echo "go vet for windows";   GOOS=windows CGO_ENABLED=0 go vet ./...
echo "go build for darwin";  GOOS=darwin CGO_ENABLED=0 go build ./...
# Known vulnerabilities of what is linked in, where their list can be had.
if getent hosts vuln.go.dev >/dev/null 2>&1; then
  echo "govulncheck"; go tool govulncheck ./...
else
  echo "The scan for known vulnerabilities is skipped: vuln.go.dev cannot be reached from here."
fi
