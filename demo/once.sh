# The whole example, played unattended by ./demo.sh --once. Sourced: uses its $root, $port, $srv, $server, serve and wrap_all.

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
  [ "$was" = "$code" ] && printf '%s' "$said" | grep -qF -- "$words"
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
page_has() { curl -s --max-time 5 "http://127.0.0.1:$port/" | grep -q "$1"; }
no_copy_left() { ! grep -lzs "^CALM_RUN=$root" /proc/[0-9]*/environ; }

play() {
  step "Wrap four programs: registered is not running"
  GATE_PATIENCE=4 came_true "four programs are wrapped" wrap_all
  came_true "the fare ledger is registered, not running" is fare-ledger state stopped
  came_true "a name that is taken is refused, with exit code 1" ends_with_code 1 "already" calm wrap fare-ledger --account "$account" -- /bin/true
  came_true "a program that is not there is refused, with exit code 1" ends_with_code 1 "There is no program at $srv/nothing" calm wrap trial --account "$account" -- "$srv/nothing"
  came_true "a service nobody knows ends with exit code 4" ends_with_code 4 "did you mean 'fare-ledger'" calm show fare-legder

  step "Start them, with evidence"
  calm start --all
  came_true "the departure board serves its page" page_has "Lundholm"
  came_true "the fare ledger books a ticket" talk $((port + 1)) "2 adults to Gråø" "booked 1"
  came_true "and a second one" talk $((port + 1)) "1 child to Kobbvik" "booked 2"

  step "The gate counter gives up now and then, and comes back by itself"
  came_true "it is running again, in a later run" reaches gate-counter running 2
  calm show gate-counter | sed -n '2p'

  step "Kill the departure board"
  local before after
  before=$(field departure-board pid)
  kill -9 "$before"
  came_true "it is running again" reaches departure-board running 2
  after=$(field departure-board pid)
  came_true "with another pid ($before, then $after)" [ "$before" != "$after" ]
  came_true "and serves its page" page_has "Kobbvik"

  step "Kill the service itself: programs go on"
  before=$(field fare-ledger pid)
  kill -9 "$server"
  wait "$server" 2>/dev/null
  came_true "the fare ledger books a ticket meanwhile" talk $((port + 1)) "4 adults to Lundholm" "booked 3"
  came_true "calm says that no sentry answers, with exit code 5" ends_with_code 5 "No sentry answers" calm list
  serve
  came_true "back, it has taken up the same process" is fare-ledger pid "$before"
  came_true "and knows that it is running" is fare-ledger state running

  step "Stop the fare ledger: its books are closed, nothing is lost"
  calm stop "Fare ledger"
  came_true "all three sales are in the day file" [ "$(wc -l <"$srv/fare-ledger/day.book")" = 3 ]

  step "The console lets in by a link, once"
  local link
  link=$(calm open 2>/dev/null)
  came_true "without it nothing is told" ends_with_code 0 "sign-in-needed" curl -s --max-time 5 "${link%%sign-in*}api/services"
  came_true "the link signs a browser in" ends_with_code 0 "departure-board" curl -s --max-time 5 -L -c "$root/jar" -b "$root/jar" "$link" --next -s --max-time 5 -b "$root/jar" "${link%%sign-in*}api/services"

  step "Unwrap all: nothing of it is left but its output"
  local service
  for service in departure-board fare-ledger gate-counter ticket-spooler; do came_true "$service is unwrapped" calm unwrap "$service"; done
  came_true "no process of them is left" no_copy_left
  came_true "the list is empty" ends_with_code 0 "No services yet" calm list
  came_true "their output is still there" test -s "$root/var/log/calm-sentry/fare-ledger/output.log"

  printf '\n'
  if [ "$failed" = 0 ]; then echo "All of it came true."; else echo "Not all of it came true; look above."; fi
  return "$failed"
}
