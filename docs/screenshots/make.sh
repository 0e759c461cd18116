#!/usr/bin/env bash
# Takes the pictures of this folder anew, from the demo data: one prompt, one size, one
# style. It needs Xvfb, xterm, ImageMagick and the DejaVu fonts, and installs what is
# missing with apt. Look at every picture afterwards.
#
#   docs/screenshots/make.sh [NAME …]    all of them, or those named
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
for pair in Xvfb:xvfb xterm:xterm import:imagemagick; do
  command -v "${pair%%:*}" >/dev/null || apt-get install -y -qq "${pair##*:}" >/dev/null
done
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$work"' EXIT
(cd "$here/../.." && CGO_ENABLED=0 go build -o "$work/bin/runcrowd" ./cmd/runcrowd)
export PATH="$work/bin:$PATH" TZ=UTC LANG=C.UTF-8 LC_ALL=C.UTF-8
export DISPLAY=:87
Xvfb :87 -screen 0 1400x1400x24 >/dev/null 2>&1 &
sleep 1

cd "$work"
mkdir harbour
sed 's/for: 10s/for: 5s/' "$here/../../examples/skerry-roads.crowd.yaml" > harbour/crowd.yaml
sed 's/for: 10s/for: 60s/' "$here/../../examples/skerry-roads.crowd.yaml" > harbour/long.yaml
sed 's/qos: 1/qos: one/; s/signal: swell/signal: swel/; s/depth_m - draught_m/depth_m - drauht_m/; s/every: 2s/evry: 2s/; s/harbour\/#/harbour\/#\/x/' harbour/crowd.yaml > harbour/typos.yaml
runcrowd standin > standin.log 2>&1 &
sleep 1

# shot NAME LINES COMMAND: runs a command in a terminal and takes its picture when it is
# done, or after WAIT seconds where it goes on.
shot() {
  local name=$1 lines=$2 command=$3
  if [ -n "${only:-}" ] && [[ " $only " != *" $name "* ]]; then return; fi
  rm -f done
  cat > run.sh <<SCRIPT
cd "$work"
printf '\033[?25l\033[1m\$\033[0m %s\n' '$command'
$command
touch "$work/done"
sleep 60
SCRIPT
  xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 124x$lines -bw 12 -bg '#11161c' -fg '#d7dde5' -xrm '*cursorColor: #11161c' \
    -xrm '*color1: #f2777a' -xrm '*color2: #8fd694' -xrm '*color3: #f2c36b' -xrm '*boldColors: false' -xrm '*scrollBar: false' -e bash run.sh &
  local pid=$!
  for _ in $(seq 400); do
    [ -e done ] && break
    if [ -n "${WAIT:-}" ] && [ "$SECONDS" -ge "$((began + WAIT))" ]; then break; fi
    sleep 0.1
  done
  sleep 0.7
  import -window root "$work/shot.miff"
  /usr/bin/convert "$work/shot.miff[0]" -trim +repage -trim +repage -bordercolor "#11161c" -border 10 -strip "$here/$name.png"
  kill $pid 2>/dev/null || true
  wait $pid 2>/dev/null || true
}

only="$*"
began=$SECONDS
shot demo 46 'runcrowd demo --for 5s --quiet'
shot demo-flaw 72 'runcrowd demo --for 5s --quiet --flaw lose=1 --flaw alter=2'
printf '%s\n' '{"deviceId": "buoy-007", "at": "2030-06-01T12:00:00Z", "wave": {"m": 1.2, "period_s": 8}, "lamp": "on"}' > real.json
shot try 30 'runcrowd try mqtt://127.0.0.1:1883 "harbour/{device}/state" --sample real.json --quiet'
shot check 25 'runcrowd check harbour/crowd.yaml'
shot mistakes 24 'runcrowd check harbour/typos.yaml'
shot preview 44 'runcrowd preview harbour/crowd.yaml --who buoy-007 --at 15:00'
cp "$here/../../examples/storm.crowd.yaml" harbour/storm.yaml
if [ -z "$only" ] || [[ " $only " == *" timeline-devices "* ]]; then
  HARBOUR_TOKEN=x runcrowd preview harbour/storm.yaml --timeline --out "$here/timeline-devices.png" --force >/dev/null
fi
shot storm 66 'runcrowd demo storm --quiet'
shot alerts 82 'runcrowd demo storm --quiet --flaw alert-wrong-device=1 --flaw alert-twice=2'
shot signals 52 'runcrowd signals tide'
runcrowd demo --for 5s --quiet --flaw lose=1 --flaw alter=2 --out flawed >/dev/null || true
shot devices 36 'runcrowd devices flawed/skerry-roads-* --verdict altered --verdict lost --values'
if [ -z "$only" ] || [[ " $only " == *" page "* ]]; then
  command -v chromium >/dev/null || apt-get install -y -qq chromium >/dev/null
  runcrowd demo storm --quiet --flaw lose=4 --flaw alter=3 --flaw misfile=2 --out bad >/dev/null || true
  runcrowd report bad/storm-* --to page.html
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
    --user-data-dir="$work/chromium" --hide-scrollbars --window-size=1280,1560 --virtual-time-budget=3000 --screenshot="$here/page.png" "file://$work/page.html" >/dev/null 2>&1
fi
shot probe 30 'runcrowd probe harbour/crowd.yaml'
shot send 28 'runcrowd send harbour/crowd.yaml buoy-007 wave_m=2.4'
runcrowd run harbour/long.yaml --quiet > long.txt 2>&1 &
player=$!
sleep 4
shot do 20 'runcrowd do buoy-007 set battery_v=10.9 --for 2s; runcrowd do "10% of light-buoy" offline --for 1s; runcrowd do status; runcrowd do --as-events'
shot ask 14 'runcrowd ask harbour/long.yaml buoy-007 set-lamp watts=35'
shot listen 22 'runcrowd listen harbour/long.yaml --who buoy-00? -n 12'
kill -9 $player 2>/dev/null || true
shot verify 62 'runcrowd verify $(ls -d runs/skerry-roads-* | tail -1)'
began=$SECONDS
WAIT=13 shot live 24 'runcrowd demo storm --flaw lose=4'
