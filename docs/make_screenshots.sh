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
  DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs "${4:-10}" -geometry "${5:-156x46}+0+0" -bg '#fbfbf9' -fg '#22303c' -e bash -c "clear; printf '\$ %s\n\n' '$2'; $2; sleep 60" &
  local window=$!
  sleep "${3:-16}"
  DISPLAY=$display import -window root "$out/$1.png"
  kill "$window" "$screen" 2>/dev/null || true
  wait "$window" "$screen" 2>/dev/null || true
}

terminal run "nibbet run $site" 45
terminal page "nibbet page /rivers/gillangarth/ --site $site" 36 8 184x60
terminal decide "nibbet decide $site --top 12" 36
terminal load "nibbet load $site" 34
terminal compare "nibbet compare $site --against before --top 3" 40
terminal sql "nibbet sql seldom-chosen --top 14 --site $site" 20
terminal help "nibbet --help" 8
terminal topics-list "nibbet topics $site --top 16" 40
terminal query "nibbet query \"elverpool canoe route\" --site $site" 34
terminal group "nibbet query --like hire --top 8 --site $site" 34
terminal split "nibbet split --site $site" 34
terminal titles "nibbet titles $site --top 5" 34
nibbet demo --serve --port 8462 >/dev/null & serving=$!
sleep 6
rm -rf /tmp/crawled
terminal crawl "nibbet crawl http://127.0.0.1:8462/ /tmp/crawled --as https://tarnbrook.example/" 20
kill "$serving"
terminal rising "nibbet rising $site --top 8" 34
python docs/pictures.py "$site" "$out"
cp "$site/out/figures/topic_map.png" "$out/topic_map.png"
