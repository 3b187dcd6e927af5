#!/usr/bin/env bash
# The Skerry Line's quay office, kept by Calm Sentry: builds what is needed, starts the service under a directory of its own,
# wraps and starts its programs, each under an account of its own, and prints where to look.
#   ./demo.sh            stays until Ctrl-C, then stops all of it
#   ./demo.sh --once     plays a whole example unattended; exit code 0 only if all of it came true
#   ./demo.sh --window   (also with --once) with a program that has a window: installs tigervnc-standalone-server and tk (as root)
#   ./demo.sh --native   (also with --once) on the programs as they ship; else on quickly built ones, unless those are there already
# As root the accounts (skerry-…) are made for the demo and removed with it; else all runs as you.
# CALM_DEMO_PORT (7410): first of eight TCP ports on loopback that the programs use.
# CALM_DEMO_ROOT: a directory that is not there yet, for all of it, in place of one whose name changes; removed at the end like that.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"
house=$PWD
once= native= window=
for word; do
  case $word in
    --once) once=1 ;;
    --native) native=1 ;;
    --window) window=window ;;
    *) echo "demo: no flag called $word; there are: --once --window --native" >&2; exit 2 ;;
  esac
done
if [ -n "$window" ] && [ "$(id -u)" != 0 ]; then echo "demo: --window needs root: a display of its own is shut off from all others by the kernel" >&2; exit 2; fi
# shellcheck disable=SC2086
. tools/setup.sh demo $window
. tools/parts.sh
if [ -n "$native" ] || current native; then
  build native console || exit 1
  out=$house/out
else
  build quick console || exit 1
  out=$house/out/quick
  # They look for the runtime where the SDK on the PATH has it.
  DOTNET_ROOT=$(dirname "$(readlink -f "$(command -v dotnet)")")
  export DOTNET_ROOT DOTNET_TieredPGO=0
fi
[ "$(id -u)" = 0 ] || echo "demo: not as root, so every program runs as $(id -un); as root each has an account of its own, with ceilings the kernel enforces"

if [ -n "${CALM_DEMO_ROOT:-}" ]; then
  mkdir "$CALM_DEMO_ROOT" || { echo "demo: CALM_DEMO_ROOT is for a directory that is not there yet" >&2; exit 2; }
  root=$(realpath "$CALM_DEMO_ROOT")
else
  root=$(mktemp -d "${TMPDIR:-/tmp}/skerry's quay.XXXXXX")
fi
srv=$root/srv
port=${CALM_DEMO_PORT:-7410}
export CALM_ROOT=$root
PATH=$out:$PATH
node=$(command -v node)
chmod 755 "$root"
mkdir -p "$srv"
cp -r demo/departure-board demo/gate-counter demo/ticket-spooler demo/berth-relay demo/quay-lamps demo/manifest-export demo/tide-reader demo/quay-post demo/ticket-desk demo/quay-office "$srv/"
mkdir -p "$srv/fare-ledger" && cp out/demo/fare-ledger "$srv/fare-ledger/"
echo '{"type":"module"}' >"$srv/package.json"
sed -i "s|SRV|$srv|; s|NODE|$node|" "$srv/ticket-spooler/ticket-spooler.yaml"
sed "s|SRV|$srv|; s|PORT\"|$port\"|" demo/manifest-export.faulty.yaml >"$srv/manifest-export.faulty.yaml"

sed -i "s|SRV|$srv|; s|NODE|$node|; s|PORT |$((port + 4)) |" "$srv/quay-office/"*.yaml

# Each program its own account, with no more rights than it needs.
account_of() { if [ "$(id -u)" = 0 ]; then echo "skerry-$1"; else id -un; fi; }
# all_of PID…: waits for each; true only if all of them came true.
all_of() {
  local pid bad=0
  for pid; do wait "$pid" || bad=1; done
  return $bad
}
account() { # made for the demo, unless it is there
  if id "$1" >/dev/null 2>&1; then calm account permit "$1"; else calm account create "$1" && echo "$1" >>"$root/accounts-made"; fi
}
accounts() {
  [ "$(id -u)" = 0 ] || return 0
  local one made=()
  for one in board ledger gate spooler relay lamps ${window:+desk}; do account "skerry-$one" & made+=($!); done
  all_of "${made[@]}" && calm account grant skerry-ledger "$srv/fare-ledger" # it writes its day file there
}

guard= sleeper= collector= post=
serve() {
  mkdir -p "$root/run/calm-sentry"
  calm-keeper guard "$root/run/calm-sentry" "$out/calm-sentry" serve --root "$root" --port 0 >>"$root/sentry.log" 2>&1 &
  guard=$!
  calm host status --wait 30s >/dev/null || { cat "$root/sentry.log"; exit 1; }
}
# Gone is also who is dead and not reaped yet.
is_gone() { case $(sed 's/.*) //; s/ .*//' "/proc/$1/stat" 2>/dev/null) in '' | Z | X) ;; *) return 1 ;; esac }
server() { cat "$root/run/calm-sentry/server.pid"; }
leave() {
  trap - EXIT INT TERM
  [ -z "$sleeper" ] || kill "$sleeper" 2>/dev/null
  echo
  echo "demo: stopping the services and the sentry"
  calm list >/dev/null 2>&1 || serve
  calm stop --all
  local one
  if [ -e "$root/accounts-made" ]; then
    for one in $(calm list --json | sed -n 's/^ *"name": "\(.*\)",/\1/p'); do calm unwrap "$one" --alone --yes >/dev/null; done
    for one in $(cat "$root/accounts-made"); do calm account remove "$one" >/dev/null; done
  fi
  # Whoever tried the demo may have killed our guard: another has taken its place.
  local pid
  pid=$(cat "$root/run/calm-sentry/guard.pid")
  kill "$pid"
  until is_gone "$pid"; do sleep 0.05; done
  [ -z "$collector" ] || kill "$collector" 2>/dev/null
  [ -z "$post" ] || kill "$post" 2>/dev/null
  rm -rf "$root"
  exit "${1:-0}"
}
trap 'leave 0' INT TERM

wrap_all() {
  local wraps=()
  sed -i "s|ACCOUNT|$(account_of board)|" "$srv/quay-office/boards.yaml"
  sed -i "s|ACCOUNT|$(account_of spooler)|" "$srv/ticket-spooler/ticket-spooler.yaml"
  calm wrap "Departure board" --at boot --account "$(account_of board)" --label screens --memory "192 MiB" --reload HUP --data timetable.csv \
    --environment BOARD_PORT="$port" --environment LINE_NAME="Skerry Line" \
    --log-file "access=$root/var/lib/calm-sentry/state/departure-board/access.log" --reopen USR2 \
    --need service:fare-ledger --need "path:$srv/departure-board/timetable.csv,within=10s,follows=hold" \
    --proof "http:http://127.0.0.1:$port/,text=Skerry Line,within=20s" \
    --watch "http:http://127.0.0.1:$port/,text=Skerry Line,beat=3s,patience=2,follows=restart-by-force" \
    --notes "The page on the screens at the quay." --with "$node" -- "$srv/departure-board/board.js" "$srv/departure-board/timetable.csv" &
  wraps+=($!)
  calm wrap "Fare ledger" --at boot --account "$(account_of ledger)" --priority "$ledger_priority" \
    --environment LEDGER_PORT="$((port + 1))" --environment TZ=Europe/Oslo \
    --proof "tcp:127.0.0.1:$((port + 1)),within=20s" --watch "tcp:127.0.0.1:$((port + 1)),beat=5s" \
    --wind-down "send:close-day\n,to=tcp 127.0.0.1:$((port + 2)),wait=150s" --wind-down "TERM 30s" \
    --notes "Books every ticket sold at the quay; writes its day file when told to close the day." -- "$srv/fare-ledger/fare-ledger" day.book &
  wraps+=($!)
  calm wrap "Gate counter" --at boot-late --label quay --account "$(account_of gate)" --tree-size 10 \
    --turn-at-start true --keep-files 20 --environment GATE="gate 2" --environment GATE_PATIENCE="${GATE_PATIENCE:-30}" \
    --proof "output:^gate counter begins" --hold-ends "${GATE_HOLD:-4}" --retry-every 3min -- "$srv/gate-counter/count.sh" &
  wraps+=($!)
  calm wrap --from "$srv/ticket-spooler/ticket-spooler.yaml" &
  wraps+=($!)
  calm wrap "Berth relay" --at boot --account "$(account_of relay)" --need network,within=5s,follows=go-ahead \
    --proof "tcp:127.0.0.1:$((port + 5)),within=20s" --kind detaches --pid-file "$root/var/lib/calm-sentry/state/berth-relay/relay.pid" \
    --terminal 100x30 --answer 'question:Keep a record of the words? [y/N] ,with=n\n' --environment RELAY_PORT="$((port + 5))" --secret RELAY_PASSWORD --with "$node" -- "$srv/berth-relay/relay.js" &&
    echo "kelp-and-brine" | calm secret set berth-relay RELAY_PASSWORD &
  wraps+=($!)
  calm wrap "Quay lamps" --at boot-late --label quay --account "$(account_of lamps)" --kind toggles --need service:gate-counter \
    --off-command "$srv/quay-lamps/lamps.sh" --off-command off --watch "command:$(printf %q "$srv/quay-lamps/lamps.sh") look,beat=1s,patience=2" \
    -- "$srv/quay-lamps/lamps.sh" on &
  wraps+=($!)
  calm wrap "Tide reader" --at boot --label quay --account "$(account_of gate)" --kind periodic \
    --rhythm "run:every 10 s,longest=5s,again=1" --notes "Every 15 minutes at the real quay." -- "$srv/tide-reader/read.sh" &
  wraps+=($!)
  calm wrap "Manifest export" --at boot --account "$(account_of board)" --kind periodic \
    --rhythm "run:on mon-sat at 22:30,zone=Europe/Oslo,again=2" -- "$srv/manifest-export/nightly.sh" "$srv/departure-board/timetable.csv" &
  wraps+=($!)
  if [ -n "$window" ]; then
    calm wrap "Ticket desk" --at boot --account "$(account_of desk)" --window 800x520 --watch "asks-for:${DESK_ASKS:-2min},follows=tell" \
      --proof "output:^the desk is there" --notes "Asks whoever keeps it at its start, and at noon." \
      -- "$srv/ticket-desk/desk.tcl" "$srv/departure-board/timetable.csv" &
    wraps+=($!)
  fi
  all_of "${wraps[@]}"
}
# A real collector on loopback, to which the logbook is forwarded, and the quay's mail, to which alerts go.
collect() {
  cat >"$root/rsyslog.conf" <<RULES
global(workDirectory="$root" maxMessageSize="8k")
module(load="imtcp")
action(type="omfile" file="$root/collector.log" template="RSYSLOG_SyslogProtocol23Format")
input(type="imtcp" address="127.0.0.1" port="$((port + 3))")
RULES
  mkdir -p "$root/etc/calm-sentry"
  cat >"$root/etc/calm-sentry/sentry.yaml" <<SETTINGS
forward: [ { tcp: 127.0.0.1:$((port + 3)) } ]
mail: { server: 127.0.0.1:$((port + 6)), security: none, from: calm-sentry@quay.skerry.example }
alerts: { gather: 3 s, steady: 10 s } # at a real quay longer
lookout: { every: 5 s }
tell:
  - { mail: quay-office@skerry.example, name: quay-office, next: harbour-master, after: 30 min }
  - { mail: harbour-master@skerry.example, name: harbour-master, labels: [money], urgent-only: true }
  - { command: [/bin/sh, -c, 'cat >>"\$0"', "$root/bell.log"], name: bell, about: [held, down], hours: "07:00-22:00" }
report: { at: daily at 07:00, to: [quay-office] }
SETTINGS
  POST_PORT=$((port + 6)) BOX_PORT=$((port + 7)) "$node" "$srv/quay-post/post.js" >>"$root/post.log" 2>&1 &
  post=$!
  rsyslogd -n -f "$root/rsyslog.conf" -i "$root/rsyslog.pid" >>"$root/collector.said" 2>&1 &
  collector=$!
}
if [ "$(id -u)" = 0 ]; then ledger_priority=above-normal; else ledger_priority=normal; fi

collect
serve
if [ -n "$once" ]; then
  . demo/once.sh
  play
  leave "$?"
fi

accounts >/dev/null && wrap_all >/dev/null && calm start --all >/dev/null || { echo "demo: the services did not start"; leave 1; }
calm list
cat <<END

The Skerry Line is at work under $root.

  the departure board        http://127.0.0.1:$port/
  the quay's mail            http://127.0.0.1:$((port + 7))/   (what people are told)
  the console                $(calm open 2>/dev/null)
                             (the link signs one browser in, once; 'calm open' prints another)

Try in another terminal:

  export CALM_ROOT=$(printf %q "$root") PATH=$(printf %q "$out"):"\$PATH"; cd "\$CALM_ROOT/srv"
  calm list
  calm show fare-ledger                           # all that is set, and what the kernel enforces
  calm check manifest-export.faulty.yaml     # a definition with faults on purpose
  calm rehearse --for 5s --account $(account_of gate) -- gate-counter/count.sh
  calm wrap                                       # asks, step by step
  calm account list
  calm output gate-counter --follow
  calm output gate-counter --errors --times       # standard error only; also --find, --match, --since, --run
  calm output gate-counter ticket-spooler --since 2min   # of several, as they came
  calm output departure-board --file access       # its own log file, kept beside its output
  tail -f ../collector.log                     # what the logbook forwards to a collector
  kill -9 \$(calm show departure-board --json | grep -m1 '"pid"' | tr -dc 0-9); calm list
  kill -STOP \$(calm show departure-board --json | grep -m1 '"pid"' | tr -dc 0-9)   # it hangs: its watch finds it within seconds
  calm why departure-board                        # and why not: calm why departure-board --at 12:30
  calm runs gate-counter                          # how each run ended; --run N shows all that is kept of one
  calm list --label quay; calm restart 'quay-*'   # several at once, by label or pattern
  calm reload departure-board                     # it reads its timetable anew, and its page is looked at
  calm adjust ticket-spooler --environment PAPER=A5; calm list; calm restart --pending   # what a change waits for
  calm compare quay-office; calm settle quay-office   # a second board, from a base in a file; calm settle --back
  calm export --all --to ../files; calm compare ../files   # all services as files, which read back to the same
  calm history ticket-spooler; calm revert ticket-spooler 1 --dry     # what each change was, and the way back
  calm stop --all --dry                           # what would be done, and nothing is
  calm board                                      # what needs attention, live; the gate counter is on hold after four failures
  calm release gate-counter
  calm tell; calm tell --messages                 # who was told of that; curl http://127.0.0.1:$((port + 7))/ reads the mail
  calm tell --test quay-office                    # a trial, with all that goes to and fro
  calm acknowledge gate-counter --note "I look at the gate"
  $node ticket-spooler/spool.js >/dev/null & sleep 8; calm tell; kill %%     # a second copy, told unasked
  calm report                                     # what happened so far, as it is sent each morning
  kill -9 $(server); calm list                    # the service itself: its guard restarts it, the programs go on
  calm terminal berth-relay                       # its own terminal: it asks for words to all berths; Ctrl-Q twice leaves
  calm stop fare-ledger                           # others need it: it asks first
  calm drill                                      # proves a reboot without one
  calm wrap "Fog horn" --account $(account_of gate) --start -- /bin/sh -c 'while sleep 5; do echo fog \$(date +%S) m; done'
  calm stop fog-horn && calm rename fog-horn "Fog signal"   # its whole record comes along
  calm ahead                                      # what is planned: jobs and restarts, with their usual length
  calm ahead ticket-spooler --now                 # its nightly restart, now: put off until its roll of tickets is printed
  calm ahead --moments 'cron 0 6 13 * 5' --zone Europe/Oslo   # the moments of a rhythm, before it is saved
  calm quiet ticket-spooler --for 30min --reason "new paper"; calm list; calm quiet ticket-spooler --end
  calm stop tide-reader --this-run; calm stop tide-reader   # the run under way alone; its rhythm, too
  mkdir ../new && sed 's|: departures<|: departures today<|' departure-board/board.js >../new/board.js
  calm swap departure-board --from ../new --dry; calm swap departure-board --from ../new --watch-for 10s   # new files
  calm swap departure-board; calm swap departure-board --back                        # its versions, and the one before again
  calm logbook --since 10min --kind fell --kind held   # also --find, --by, --follow, --csv
  calm logbook ticket-spooler --kind noted        # entries that the program made itself
  calm logbook --prove                            # is it as it was written?

${window:+  calm why ticket-desk                            # it asks in its window; the console shows it, and answers
  calm window ticket-desk --to desk.png           # what it shows now; --run N: what a run of it showed last

}Ctrl-C stops all of it.
END
# The service may be killed and started again by whoever tries the demo: only Ctrl-C ends it.
while :; do sleep 3600 & sleeper=$!; wait $sleeper; done
