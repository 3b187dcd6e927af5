# The demo's compiled programs, in out/demo; built when they are missing or older than their source. Sourced.
if [ ! -x out/demo/fare-ledger ] || [ demo/fare-ledger/Ledger.cs -nt out/demo/fare-ledger ]; then
  echo "demo: building the fare ledger"
  dotnet publish demo/fare-ledger -c Release -o out/demo -v quiet || exit 1
fi
