# The whole example, played unattended by ./demo.sh --once. Sourced: uses its $root, $port, $srv, $guard, server, is_gone, serve and wrap_all.

failed=0
step() { printf '\n— %s\n' "$*"; }
# came_true WORDS COMMAND…: says whether it came true, and shows what was said when it did not.
came_true() {
  local words=$1 said
  shift
  if said=$("$@" 2>&1); then
    echo "  came true: $words"
  else
    echo "  DID NOT COME TRUE: $words"
    printf '%s\n' "$said" | sed 's/^/    /'
    failed=1
  fi
}
field() { calm show "$1" --json | sed -n "s/^  \"$2\": \"\{0,1\}\([^\",]*\).*/\1/p"; } # one value of a service
is() { [ "$(field "$1" "$2")" = "$3" ] || { calm show "$1"; return 1; }; }
ends_with_code() { # code, words that must be said, command…
  local code=$1 words=$2 said
  shift 2
  said=$("$@" 2>&1)
  local was=$?
  printf '%s\n' "$said"
  # Not through a pipe: what is found in the first line ends grep, and the rest of a pipe with it.
  [ "$was" = "$code" ] && [[ $said == *"$words"* ]]
}
# Waits for a service to be in a state, with a run of at least a number: each state is shown by the live list.
reaches() {
  local tries=0
  until [ "$(field "$1" state)" = "$2" ] && [ "$(field "$1" run)" -ge "$3" ]; do
    tries=$((tries + 1))
    [ "$tries" -lt 600 ] || { calm show "$1"; return 1; }
    sleep 0.1
  done
}
talk() { exec 9<>"/dev/tcp/127.0.0.1/$1" && printf '%s\n' "$2" >&9 && IFS= read -r answer <&9 && exec 9>&- && [ "$answer" = "$3" ]; }
# A command shows a text, within half a minute.
shows_at_last() {
  local text=$1 said
  shift
  for _ in {1..300}; do said=$("$@") && grep -qF "$text" <<<"$said" && return; read -rt 0.1 <> <(:); done
  printf '%s\n' "$said"
  return 1
}
# Somebody joins the relay's terminal, answers what it asks, and leaves again: words, and what is to be shown of them.
answered_at_terminal() {
  local keys=$root/keys seen=$root/seen joined
  rm -f "$keys" "$seen" && mkfifo "$keys" && : >"$seen" || return 1
  script -qefc "calm terminal berth-relay" "$seen" <"$keys" >/dev/null 2>&1 &
  joined=$!
  exec 8>"$keys"
  shown() { for _ in {1..300}; do grep -qa "$1" "$seen" && return; read -rt 0.1 <> <(:); done; cat "$seen"; return 1; }
  shown "Words for all berths" && printf '%s\r' "$1" >&8 && shown "$2" && printf '\021\021' >&8 && wait "$joined"
  local was=$?
  exec 8>&-
  return "$was"
}
page_has() { grep -q "$1" <<<"$(curl -s --max-time 5 "http://127.0.0.1:$port/")"; }
no_page_has() { ! page_has "$1"; }
nowhere() { ! grep -rlsF "$1" "$root/var" "$root/run" "$root/sentry.log"; }
faulty_file() {
  printf 'name: trial\nprogram:\n  pth: /bin/true\n' | sed 's/  pth/      pth/' >"$root/trial.yaml"
  echo "$root/trial.yaml"
}
# Somebody starts the gate counter by hand beside its service, and starts the service then.
copy_is_found() {
  calm stop gate-counter --with-dependents || return 1
  sh "$srv/gate-counter/count.sh" >/dev/null 2>&1 &
  local copy=$! said
  said=$(calm start gate-counter 2>&1)
  local was=$?
  if [ "$was" = 0 ] || ! grep -q "pid $copy" <<<"$said"; then printf '%s\n' "$said"; kill "$copy"; return 1; fi
  calm start gate-counter --end-copies && ! kill -0 "$copy" 2>/dev/null && calm start quay-lamps
}
collected() { for _ in {1..100}; do grep -q "$1" "$root/collector.log" && return; read -rt 0.1 <> <(:); done; tail -n 2 "$root/collector.log"; return 1; }
# The quay's mail, as anybody reads it.
in_box() { for _ in {1..300}; do grep -qF "$1" <<<"$(curl -s --max-time 5 "http://127.0.0.1:$((port + 7))/")" && return; read -rt 0.1 <> <(:); done; curl -s "http://127.0.0.1:$((port + 7))/" | tail -n 40; return 1; }
# The service answers again and knows the fare ledger as the same process.
taken_up() { calm host status --wait 30s && is fare-ledger pid "$1"; }
# The server, its guard, and the second one that watches that.
kill_all() {
  local guard dead line all=()
  guard=$(cat "$root/run/calm-sentry/guard.pid") dead=$(server)
  for line in /proc/[0-9]*/cmdline; do
    if grep -q "guard-second $guard " <<<"$(tr '\0' ' ' <"$line" 2>/dev/null)"; then all+=("$(basename "${line%/cmdline}")"); fi
  done
  kill -9 "${all[@]}" "$guard" "$dead"
  # On a busy machine one that is killed still takes calls for a moment.
  for _ in $(seq 60); do ! is_gone "$dead" || break; sleep 0.05; done
}
# Four seconds later a keeper begins another guard: on a slow machine that may be before we ask.
nobody_answers() {
  for _ in 1 2 3; do
    kill_all
    ends_with_code 5 "No sentry answers" calm list && return
  done
  return 1
}
# In the last drill: STARTED of the one is not before READY of the other, which may be so quick that nobody waits.
after_ledger() {
  calm drill --last | sed -n '/^Started/,$p' | tee "$root/drill.said" |
    awk '$2 != "ready" { next } $1 == "fare-ledger" { ready = $5 } $1 == "departure-board" { began = $3 } END { exit !(ready != "" && began != "" && began + 0 >= ready + 0) }' ||
    { cat "$root/drill.said"; return 1; }
}
mended_and_released() { calm adjust tide-alarm --code 3=again -- /bin/sleep 600 && calm release tide-alarm && is tide-alarm state running; }
# Another version of the departure board, packed: its number, and what sed makes of the script.
new_board() {
  mkdir -p "$root/new/board-$1"
  sed "$2" "$srv/departure-board/board.js" >"$root/new/board-$1/board.js"
  tar czf "$root/board-$1.tar.gz" -C "$root/new" "board-$1"
}
display_killed() {
  local line
  for line in /proc/[0-9]*/environ; do
    if grep -qs "^/usr/bin/Xvnc" "${line%environ}cmdline" && grep -qzs "^CALM_RUN=$root/" "$line"; then kill -9 "$(basename "${line%/environ}")"; fi
  done
  shows_at_last "The display that it shows its windows on is gone" calm logbook ticket-desk
}
unwrap_desk() { calm stop ticket-desk && calm unwrap ticket-desk --yes && ! ls -d "$root/run/calm-sentry/services/"*/window 2>/dev/null; }
no_copy_left() { ! grep -lzs "^CALM_RUN=$root" /proc/[0-9]*/environ; }

play() {
  step "Accounts: each program its own, with just enough rights"
  came_true "the accounts are there" accounts
  if [ "$(id -u)" = 0 ]; then
    came_true "the ledger's account is locked and writes only where it may" ends_with_code 0 "cannot log in" calm account show skerry-ledger
    came_true "an account nobody permitted is refused" ends_with_code 1 "is not permitted to run services" calm wrap trial --account daemon -- /bin/true
  fi

  step "Check: what would go wrong, found before anything is run"
  local faults
  faults=$(calm check "$srv/manifest-export.faulty.yaml")
  printf '%s\n' "$faults" | sed -n '/^blocks/,$p' | head -n 40
  local code
  for code in account-not-permitted group-missing processors-missing directory-missing secret-missing module-missing secret-in-plain memory-over-machine; do
    [ "$code" = account-not-permitted ] && [ "$(id -u)" != 0 ] && code=account-not-possible
    came_true "it finds $code" grep -q " $code\$" <<<"$faults"
  done
  came_true "and a mistake in a file is named with its line" ends_with_code 2 "line 3, column 12: program.pth: not a key of this place" calm check "$(faulty_file)"

  step "Rehearse: run it just as its service would, nothing registered"
  came_true "the gate counter stays up, and obeys its stop" ends_with_code 0 "after TERM was sent" calm rehearse --account "$(account_of gate)" --for 2s -- "$srv/gate-counter/count.sh"
  came_true "the relay is seen to put itself into the background" ends_with_code 0 "program.kind: detaches" calm rehearse --account "$(account_of relay)" --environment RELAY_PORT=$((port + 5)) \
    --environment RELAY_PASSWORD=kelp --with "$node" --for 2s -- "$srv/berth-relay/relay.js"

  step "Wrap eight programs: registered is not running"
  GATE_HOLD=0 GATE_PATIENCE=4 DESK_ASKS=2s came_true "eight programs are wrapped" wrap_all
  came_true "the fare ledger is registered, not running" is fare-ledger state stopped
  came_true "a name that is taken is refused, with exit code 1" ends_with_code 1 "already" calm wrap fare-ledger --account "$(account_of ledger)" -- /bin/true
  came_true "a program that is not there is refused, with exit code 1" ends_with_code 1 "There is no program at $srv/nothing" calm wrap trial --account "$(account_of ledger)" -- "$srv/nothing"
  came_true "a service nobody knows ends with exit code 4" ends_with_code 4 "did you mean 'fare-ledger'" calm show fare-legder

  step "Start them, with evidence"
  calm start --all
  came_true "the departure board serves its page" page_has "Lundholm"
  came_true "the fare ledger books a ticket" talk $((port + 1)) "2 adults to Gråø" "booked 1"
  came_true "and a second one" talk $((port + 1)) "1 child to Kobbvik" "booked 2"

  came_true "the relay lets in who knows the password" talk $((port + 5)) "kelp-and-brine" "listening"
  came_true "its secret is hidden in its output" ends_with_code 0 'with the password ****' calm output berth-relay
  came_true "and lies nowhere in the clear" nowhere kelp-and-brine
  came_true "what it is known to ask is answered" shows_at_last "and was given its answer" calm logbook berth-relay
  came_true "what nobody knows is noticed" shows_at_last "It probably asks at its terminal: 'Words for all berths?'" calm why berth-relay
  came_true "its terminal is joined, it asks, and is answered" answered_at_terminal "gale warning" "said to . berths: gale warning"
  came_true "and it is known that it asks no more" shows_at_last "It no longer asks at its terminal" calm logbook berth-relay
  came_true "who joined and typed is in the logbook, and not what" ends_with_code 0 "Keys were typed at its terminal" calm logbook berth-relay
  if [ -n "$window" ]; then
    came_true "the ticket desk asks in its window, which nobody sees, and it is noticed" shows_at_last "It probably asks in a window: 'Open the desk'" calm why ticket-desk
    came_true "what it shows can be saved" ends_with_code 0 "What ticket-desk shows is in $root/desk.png" calm window ticket-desk --to "$root/desk.png"
    came_true "somebody is told of it, with the picture" in_box "Ticket desk probably asks for somebody in a window"
    came_true "its display is killed: that is no failure of its own" display_killed
    came_true "and it runs again, and asks again" reaches ticket-desk running 2
    came_true "what its first run showed last is kept" shows_at_last "calm window ticket-desk --run 1 --to FILE.png" calm runs ticket-desk --run 1
    came_true "it is stopped and unwrapped, and its display is gone with it" unwrap_desk
  fi
  came_true "the lamps are on, with nothing running for it" ends_with_code 0 "On since" calm list
  echo "$(date +%H:%M) off" >>"$root/var/lib/calm-sentry/state/quay-lamps/lamps"
  came_true "somebody switches them off: it is seen, and they are on again" reaches quay-lamps running 2
  came_true "and it is known why" ends_with_code 0 "the quay lies in the dark" calm runs quay-lamps
  if [ "$(id -u)" = 0 ]; then came_true "the spooler's ceiling is in force, by the kernel's word" ends_with_code 0 "resources.memory            256 MiB" calm show ticket-spooler; fi
  came_true "a copy started by hand is found before a second start" copy_is_found

  step "The gate counter gives up now and then, and comes back by itself"
  came_true "it is running again, in a later run" reaches gate-counter running 2
  calm show gate-counter | sed -n '2p'

  step "Jobs: a reading every ten seconds, an export each night; and a nightly restart that waits for a roll of tickets"
  came_true "the tide reader has run at its moments, and rests" reaches tide-reader resting 2
  came_true "a job that rests has no process" ends_with_code 0 "Resting: its next run is at" calm why tide-reader
  came_true "an export that is asked for is done at once, and its rhythm stays" ends_with_code 0 "Manifest export is done" calm start manifest-export
  came_true "what is planned is seen ahead" ends_with_code 0 "daily at 01:00" calm ahead ticket-spooler manifest-export
  came_true "a moment can be skipped, once" ends_with_code 0 "is skipped" calm ahead manifest-export --skip
  printed=$(field ticket-spooler run)
  came_true "the spooler's restart is taken now" ends_with_code 0 "is taken now" calm ahead ticket-spooler --now
  came_true "and done as soon as its roll of tickets is" reaches ticket-spooler running $((printed + 1))
  came_true "while the paper is changed it is quiet" ends_with_code 0 "no alert is raised" calm quiet ticket-spooler --for 10min --reason "new paper"
  came_true "which the list shows with its reason" ends_with_code 0 "(new paper)" calm list
  came_true "until somebody ends it" ends_with_code 0 "is no longer quiet" calm quiet ticket-spooler --end
  came_true "which is on record" ends_with_code 0 "restart planned for" calm logbook ticket-spooler --since 5min

  step "Change it while it runs: a timetable read anew, and a restart pending"
  echo "04:44;Gråø;9" >>"$srv/departure-board/timetable.csv"
  came_true "the page does not know of the late boat" no_page_has "04:44"
  came_true "told to read its timetable anew, it does, and is looked at" ends_with_code 0 "After that: http://127.0.0.1:$port/ answered 200" calm reload departure-board
  came_true "and the page knows of it" page_has "04:44"
  calm adjust ticket-spooler --environment PAPER=A5 >/dev/null
  came_true "a change that waits for a restart is said" ends_with_code 0 "Restart pending: program.environment.PAPER" calm list
  came_true "and those that wait are restarted, no others" ends_with_code 0 "ticket-spooler" calm restart --pending --dry
  calm restart --pending
  came_true "what is at the quay is asked for together" ends_with_code 0 "Would be stopped, each after those that need it: quay-lamps" calm stop --label quay --with-dependents --dry

  step "Kill the departure board"
  local before after
  before=$(field departure-board pid)
  kill -9 "$before"
  came_true "it is running again" reaches departure-board running 2
  after=$(field departure-board pid)
  came_true "with another pid ($before, then $after)" [ "$before" != "$after" ]
  came_true "and serves its page" page_has "Kobbvik"

  step "Hang the departure board: it keeps its number and does nothing"
  kill -STOP "$(field departure-board pid)"
  came_true "its watch finds it, and it is restarted" reaches departure-board running 3
  came_true "why says so, from the record" ends_with_code 0 "Health poor: http://127.0.0.1:$port/ does not answer" calm why departure-board
  came_true "and its page is served" page_has "Lundholm"
  calm why departure-board

  step "New program files: looked at first, and the old ones back when they do not do"
  new_board 2 's|: departures</h1>|: departures, all times local</h1>|'
  new_board 3 's|^const port = .*|throw new Error("no berth plan for today");|'
  mkdir "$root/new/notes" && echo "Call the quay office." >"$root/new/notes/readme.txt" # no program at all
  came_true "what would change is shown, and nothing is done" ends_with_code 0 "changed    1: board.js" calm swap departure-board --from "$root/board-2.tar.gz" --dry
  came_true "the new files are put in, and stay" ends_with_code 0 "Departure board has version 2 of its files." calm swap departure-board --from "$root/board-2.tar.gz" --watch-for 2s
  came_true "its page is the new one" page_has "all times local"
  came_true "with the timetable as it was" page_has "04:44"
  came_true "what would not run is refused before anything is stopped" ends_with_code 1 "Nothing was changed" calm swap departure-board --from "$root/new/notes"
  calm swap departure-board --from "$root/board-3.tar.gz" >"$root/swap.said" 2>&1
  cat "$root/swap.said"
  came_true "what fails when it runs gives way to the files of before" grep -q "Departure board keeps its files of before" "$root/swap.said"
  came_true "with what it printed last" grep -q "no berth plan for today" "$root/swap.said"
  came_true "and its page is served all the while that it stands" page_has "all times local"
  came_true "an earlier version can come back" ends_with_code 0 "Departure board has version 1 of its files." calm swap departure-board --back --watch-for 0s
  calm runs departure-board
  calm swap departure-board

  step "A program that always fails: put on hold, released by a person"
  calm wrap tide-alarm --account "$(account_of gate)" --pause 50ms --hold-ends 3 -- /bin/sh -c 'echo "no tide gauge at $0"; exit 3' >/dev/null
  calm start tide-alarm >/dev/null 2>&1
  came_true "it is on hold after three failures" reaches tide-alarm held 3
  came_true "the board says that it needs attention" ends_with_code 0 "1 service needs attention" calm board --once
  came_true "its last lines are kept with the run" ends_with_code 0 "no tide gauge" calm runs tide-alarm --run 3
  came_true "mended and released, it runs" mended_and_released
  calm runs tide-alarm
  came_true "while it runs it keeps its name" ends_with_code 1 "calm stop tide-alarm" calm rename tide-alarm "Tide gauge"
  calm stop tide-alarm >/dev/null
  came_true "stopped, it is renamed" ends_with_code 0 "tide-alarm is tide-gauge now" calm rename tide-alarm "Tide gauge"
  came_true "with all its runs" ends_with_code 0 "no tide gauge" calm runs tide-gauge --run 3
  came_true "and who asks for the old name is told the new one" ends_with_code 4 "renamed to 'tide-gauge'" calm show tide-alarm
  calm unwrap tide-gauge --yes >/dev/null

  step "Kill the service itself: programs go on"
  before=$(field fare-ledger pid)
  kill -9 "$(server)"
  came_true "its guard restarts it, and it has taken up the same process" taken_up "$before"
  kill -9 "$guard" "$(server)"
  wait "$guard" 2>/dev/null
  came_true "both killed, a second guard takes their place, and the process is taken up again" taken_up "$before"
  came_true "guard and service gone, calm says that no sentry answers, with exit code 5" nobody_answers
  came_true "the fare ledger books a ticket meanwhile" talk $((port + 1)) "4 adults to Lundholm" "booked 3"
  serve
  came_true "back, it has taken up the same process" is fare-ledger pid "$before"
  came_true "and knows that it is running" is fare-ledger state running

  step "The boot drill: a reboot proven without one"
  calm drill --dry
  came_true "what would be interrupted is shown, and nobody is there to ask" ends_with_code 2 "calm drill --yes" calm drill
  calm drill --yes 2>/dev/null
  came_true "all came up in order" ends_with_code 0 "6 of 6 services ready" calm drill --last
  came_true "the departure board began when the fare ledger was proven, and not before" after_ledger

  step "Stop the fare ledger: its books are closed, nothing is lost"
  came_true "others need it, so it asks first, naming them" ends_with_code 1 "departure-board, ticket-spooler need fare-ledger and are running" calm stop "Fare ledger"
  calm stop "Fare ledger" --with-dependents
  came_true "it was told over TCP to close its day, and that did it" ends_with_code 0 "'close-day' to tcp 127.0.0.1:$((port + 2)): it said 'closing'" calm runs fare-ledger --run 2
  came_true "a circle of needs is refused with its path" ends_with_code 1 "fare-ledger needs departure-board needs fare-ledger" calm adjust fare-ledger --need service:departure-board
  came_true "all three sales are in the day file" [ "$(wc -l <"$srv/fare-ledger/day.book")" = 3 ]

  step "The logbook: found again, and proven"
  came_true "what failed is found by its kind" ends_with_code 0 "gate-counter" calm logbook --since 1h --kind fell
  came_true "as lines for a spreadsheet, too" ends_with_code 0 ",held," calm logbook --csv --kind held
  came_true "each entry follows from the one before it" ends_with_code 0 "is as it was written" calm logbook --prove

  step "Output: found again, by run, stream, text and file"
  came_true "each run of the gate counter has a file of its own" test -e "$root/var/log/calm-sentry/gate-counter/output.1.log.gz"
  came_true "what it said before it gave up is found, with the lines before" ends_with_code 0 "giving up" calm output gate-counter --find "giving up" --around 2
  came_true "on standard error alone" ends_with_code 0 "the barrier reads" calm output gate-counter --errors --last 1
  came_true "of its first run" ends_with_code 0 "gate counter begins" calm output gate-counter --run 1
  came_true "of two services, as it came" ends_with_code 0 "ticket-spooler  ticket spooler begins" calm output gate-counter ticket-spooler --since 1h --find begins
  came_true "the board's own access log is kept beside its output" ends_with_code 0 "GET /" calm output departure-board --file access

  step "Forwarding: the collector has what the logbook says"
  came_true "who was stopped, and by whom" collected "stop-asked"
  came_true "with the hash of each entry" collected "hash="

  step "The console lets in by a link, once"
  local link
  link=$(calm open 2>/dev/null)
  came_true "without it nothing is told" ends_with_code 0 "sign-in-needed" curl -s --max-time 5 "${link%%sign-in*}api/services"
  local page
  page=$(curl -s --max-time 5 -c "$root/jar" -o /dev/null -w '%{redirect_url}' "$link" | sed -n 's/.*#page=//p')
  came_true "its cookie alone, which every port of this host gets, opens nothing" ends_with_code 0 "sign-in-needed" curl -s --max-time 5 -b "$root/jar" "${link%%sign-in*}api/services"
  came_true "with the page's own secret it does" ends_with_code 0 "departure-board" curl -s --max-time 5 -b "$root/jar" -H "Calm-Page: $page" "${link%%sign-in*}api/services"

  step "Told: the fall of the fare ledger is one message, to whoever should know"
  came_true "who is told of what is read as a sentence" ends_with_code 0 "quay-office: mail to quay-office@skerry.example, about all services" calm tell --recipients
  came_true "a trial shows all that goes to and fro" ends_with_code 0 "250 it is in the box" calm tell --test quay-office
  calm start departure-board ticket-spooler >/dev/null
  "$node" "$srv/ticket-spooler/spool.js" >/dev/null 2>&1 &
  local copy=$!
  came_true "a copy that somebody starts beside a service is found unasked, and told" in_box "Ticket spooler runs twice"
  kill "$copy"
  calm adjust fare-ledger --hold-ends 1 >/dev/null
  kill -9 "$(field fare-ledger pid)"
  came_true "its fall is in the quay's mail" in_box "Fare ledger is on hold"
  came_true "with what needs it" in_box "Departure board: Running since"
  came_true "and with what to type" in_box "calm release fare-ledger"
  came_true "the alert is seen, and who was told" ends_with_code 0 "Fare ledger is on hold" calm tell
  came_true "somebody says that they look at it" ends_with_code 0 "is yours" calm acknowledge fare-ledger --note "the book is on my desk"
  came_true "which others see" ends_with_code 0 "the book is on my desk" calm tell
  came_true "and the morning report has it, with all that happened" ends_with_code 0 "Fare ledger is on hold" calm report
  calm adjust fare-ledger --hold-ends 5 >/dev/null
  calm release fare-ledger >/dev/null
  came_true "once it has stayed well, that is told, too" in_box "Over: Fare ledger is on hold"

  step "Services as files: a second board from a base, compared, settled and let differ"
  local office=$srv/quay-office
  came_true "the files say a service that is not there" ends_with_code 1 "wrap and start it" calm compare "$office"
  came_true "the machine is brought to them" ends_with_code 0 "Settled: 1 service is as the files say." calm settle "$office" --yes
  calm settle --last
  came_true "the second board serves its page" grep -q "south quay" <(curl -s --max-time 5 "http://127.0.0.1:$((port + 4))/")
  came_true "each value says where it came from" ends_with_code 0 "(boards.yaml, port from board-south.yaml)" calm show board-south
  came_true "twice changes nothing" ends_with_code 0 "Nothing is to be done" calm settle "$office" --yes
  calm adjust board-south --title "South quay" >/dev/null
  came_true "what is changed by hand since is said" ends_with_code 0 "It differs from its files in $office since" calm why board-south
  came_true "key by key" ends_with_code 1 "title is now 'Departures, south quay' (was 'South quay')" calm compare "$office"
  calm compare "$office"
  came_true "settled again, it is as they say" ends_with_code 0 "Settled: 1 service" calm settle "$office" --yes
  came_true "all services are written as files" ends_with_code 0 "files written" calm export --all --to "$root/files"
  came_true "which read back to the same" ends_with_code 0 "Nothing is to be done" calm compare "$root/files"
  came_true "comments and all" cmp "$office/board-south.yaml" "$root/files/board-south.yaml"
  came_true "what the latest settling did is undone" ends_with_code 0 "is undone" calm settle --back --yes
  came_true "and the title is the one before again" is board-south title "South quay"
  came_true "the second board is unwrapped" calm unwrap board-south --yes

  step "Unwrap all: nothing of it is left but its output"
  local service
  for service in departure-board ticket-spooler fare-ledger quay-lamps gate-counter berth-relay tide-reader manifest-export; do came_true "$service is unwrapped" calm unwrap "$service" --yes; done
  came_true "no process of them is left" no_copy_left
  came_true "the list is empty" ends_with_code 0 "No services yet" calm list
  came_true "their output is still there" test -s "$root/var/log/calm-sentry/fare-ledger/output.log"

  printf '\n'
  if [ "$failed" = 0 ]; then echo "All of it came true."; else echo "Not all of it came true; look above."; fi
  return "$failed"
}
