# How the parts are made, for build.sh, demo.sh, dev.sh and test.sh. Sourced from the top of the project, after setup.sh.
#   native   out/calm, out/calm-sentry, out/calm-keeper and the demo's program: native code, checked by every analyzer
#   quick    the same in out/quick: service and client for the runtime on this machine, unchecked, in a fraction of the time
#   console  the console's files, served by either
#   types    the console's types, checked
# A part is made again when the content of any file it is made of has changed.
export DOTNET_CLI_TELEMETRY_OPTOUT=1 DOTNET_NOLOGO=1 MSBUILDDISABLENODEREUSE=1
# One compiler for all that a script compiles, found again by its name: it is warm after the first project, and ends with the script.
export UseSharedCompilation=true SharedCompilationId=calm-sentry-$$
compiler_ends() {
  local pid
  for pid in $(pgrep -f "[V]BCSCompiler.* -pipename:$SharedCompilationId\$" 2>/dev/null); do kill "$pid"; done
}
# What runs for seconds gains nothing from being compiled a third time.
export DOTNET_TieredPGO=0
mkdir -p out/.stamps out/.log out/demo

# The build's own targets break where a folder's name has a quote or another letter of theirs: they get there by a link that has none.
here=$PWD
case $PWD in
  *[\'\;%@\$\(\)]*)
    here=${XDG_CACHE_HOME:-$HOME/.cache}/calm-sentry-build/$(printf %s "$PWD" | sha256sum | cut -c1-16)
    mkdir -p "$(dirname "$here")" && ln -sfn "$PWD" "$here"
    ;;
esac

case "$(uname -m)" in
  x86_64) rid=linux-x64 ;;
  aarch64) rid=linux-arm64 ;;
  *) echo "build: $(uname -m) is not supported; x86_64 and aarch64 are" >&2; exit 1 ;;
esac

sources_of() { # part: what it is made of, each file ended by NUL
  case $1 in
    native | quick)
      find src demo/fare-ledger Directory.*.props global.json CalmSentry.Parts.slnf \
        \( -name console -o -name bin -o -name obj \) -prune -o -type f -print0
      ;;
    console | types)
      find src/console docs/openapi.json \( -name node_modules -o -name dist -o -name test-results -o -name schema.d.ts \) -prune -o -type f -print0
      ;;
  esac
}
stamp_of() { { echo "$rid ${READY_TO_RUN:-}"; sources_of "$1" | sort -z | xargs -0 sha256sum; } | sha256sum | cut -d' ' -f1; }
made_of() { # part: a file that is there when it has been made
  case $1 in
    native) echo out/calm-sentry ;;
    quick) echo out/quick/calm-sentry ;;
    console) echo out/console/index.html ;;
    types) echo src/console/src/api/schema.d.ts ;;
  esac
}
current() { [ -e "$(made_of "$1")" ] && [ "$(cat "out/.stamps/$1" 2>/dev/null)" = "$(stamp_of "$1")" ]; }

put() { # directory, projects' published directories…
  local to=$1
  shift
  mkdir -p "$to"
  rm -f "$to"/*.dll
  find "$@" -maxdepth 1 -type f -not -name '*.pdb' -not -name '*.dbg' -not -name '*.xml' -not -name 'appsettings*' -not -name 'fare-ledger' \
    -exec cp --remove-destination {} "$to/" \;
}
make_native() {
  dotnet publish "$here/CalmSentry.Parts.slnf" -c Release -v minimal ${PARTS_COMPILED:+--no-build} || return
  put out src/{Cli,Keeper,Server}/bin/Release/net10.0/$rid/publish
  cp --remove-destination demo/fare-ledger/bin/Release/net10.0/$rid/publish/fare-ledger out/demo/
}
make_quick() {
  CalmQuick=true dotnet publish "$here/CalmSentry.Parts.slnf" -c Release -v minimal || return
  put out/quick .cache/quick/publish/{Cli,Keeper,Server}/release_$rid
  cp --remove-destination .cache/quick/publish/FareLedger/release_$rid/fare-ledger out/demo/
  ln -sfn ../console out/quick/console
}
packages() ( # the console's packages, as its lock file names them; once, although two parts want them
  flock 9
  stamp=$(sha256sum src/console/package-lock.json)
  [ -e src/console/node_modules/.package-lock.json ] && [ "$(cat out/.stamps/packages 2>/dev/null)" = "$stamp" ] && return
  echo "npm: packages"
  (cd src/console && npm ci --ignore-scripts --prefer-offline --no-audit --no-fund --loglevel=error 9>&-) || return
  echo "$stamp" >out/.stamps/packages
) 9>out/.log/packages.lock
make_console() {
  packages && (cd src/console && npx vite build --logLevel warn) || return
  rm -rf out/console && cp -r src/console/dist out/console
}
make_types() { packages && (cd src/console && npm run --silent types && npx tsc --noEmit); }

# What a part that is being made does now: the last thing it told.
doing() { tail -n 1 "out/.log/$1.log" | sed -E 's|^ *||; s| -> .*| is done|; s|(.{60}).*|\1…|'; }

# build PART…: makes what is not current, side by side.
# A line every few seconds says what goes on; a part that fails is named with its last lines.
build() {
  local part stamp pids=() names=() begun=$SECONDS ended code bad=0 tick=
  for part in "$@"; do
    current "$part" && continue
    stamp=$(stamp_of "$part")
    { "make_$part" && echo "$stamp" >"out/.stamps/$part"; } >"out/.log/$part.log" 2>&1 </dev/null &
    pids+=($!) names+=("$part")
    echo "build: $part is being made"
  done
  while [ ${#pids[@]} -gt 0 ]; do
    [ -n "$tick" ] || { sleep 8 & tick=$!; }
    code=0
    wait -n -p ended "${pids[@]}" "$tick" || code=$?
    if [ "$ended" = "$tick" ]; then
      tick=
      local now=
      for part in "${names[@]}"; do now="$now · $part: $(doing "$part")"; done
      printf 'build: %3d s  %s\n' $((SECONDS - begun)) "${now# · }"
      continue
    fi
    local at
    for at in "${!pids[@]}"; do [ "${pids[at]}" = "$ended" ] && break; done
    part=${names[at]}
    unset "pids[at]" "names[at]"
    if [ "$code" = 0 ]; then
      printf 'build: %3d s  %s is ready\n' $((SECONDS - begun)) "$part"
    else
      printf 'build: %3d s  %s FAILED; the last lines of out/.log/%s.log:\n' $((SECONDS - begun)) "$part" "$part"
      { grep -E 'error|warning' "out/.log/$part.log" | sort -u | tail -n 10; tail -n 10 "out/.log/$part.log"; } | sed 's/^/  /'
      bad=1
    fi
  done
  [ -z "$tick" ] || kill "$tick" 2>/dev/null
  [ -n "${COMPILER_STAYS:-}" ] || compiler_ends
  return $bad
}
