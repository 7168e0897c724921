#!/usr/bin/env bash
# Pictures of what a user sees, from the demo: terminals in a real window under Xvfb, pages in headless Chromium.
# Needs Debian's packages xvfb, xterm, imagemagick and chromium. Run `make demo` first.
set -euo pipefail
cd "$(dirname "$0")/.."
site=${1:-demo/tarnbrook}
out=docs/screenshots
export PATH="$PWD/.venv/bin:$PATH"
mkdir -p "$out"

terminal() { # NAME COMMAND: the terminal after the command, about 1280x800
  local display=:$((90 + RANDOM % 400))
  Xvfb "$display" -screen 0 1300x820x24 >/dev/null 2>&1 &
  local screen=$!
  sleep 1
  DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry 156x46+0+0 -bg '#fbfbf9' -fg '#22303c' -e bash -c "clear; printf '\$ %s\n\n' '$2'; $2; sleep 60" &
  local window=$!
  sleep "${3:-16}"
  DISPLAY=$display import -window root "$out/$1.png"
  kill "$window" "$screen" 2>/dev/null || true
  wait "$window" "$screen" 2>/dev/null || true
}

page() { # NAME FILE [HEIGHT]
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
    --user-data-dir="$(mktemp -d)" --hide-scrollbars --window-size="1280,${3:-800}" --screenshot="$out/$1.png" "file://$PWD/$2" >/dev/null 2>&1
}

terminal run "nibbet run $site" 45
terminal page "nibbet page /rivers/gillangarth/ --site $site" 36
terminal decide "nibbet decide $site --top 12" 36
terminal load "nibbet load $site" 34
terminal compare "nibbet compare $site --against before --top 3" 40
terminal sql "nibbet sql seldom-chosen --top 14 --site $site" 20
page report "$site/out/report.html" 1600
cp "$site/out/figures/movers.png" "$out/movers.png"
cp "$site/out/figures/topics.png" "$out/topics.png"
