# A worker's own part of the machine, laid out inside namespaces that are its own already, and then its command.
#   worker.sh PLACE NUMBER REPOSITORY COMMAND…      PLACE lies in the repository
# It stays as process 1 there, which takes up what has lost its parent and waits for it.
set -euo pipefail
place=$1 number=$2 repository=$3
shift 3
mount -t proc proc /proc
# What root's daemons write, in memory; what tests write, on the disk that the project is on.
cd "$place"
mkdir -p over tmp
mount -t tmpfs tmpfs over
for dir in etc run var/spool home; do
  mkdir -p "over/upper/$dir" "over/work/$dir"
  mount -t overlay overlay -o "lowerdir=/$dir,upperdir=over/upper/$dir,workdir=over/work/$dir" "/$dir"
done
# Ceilings on processes go by an account's number, which namespaces share.
sed -i -E '/^(SYS_)?[UG]ID_M(IN|AX)\b/d' /etc/login.defs
low=$((20000 + number * 1000))
printf '%s\n' "SYS_UID_MIN $low" "SYS_UID_MAX $((low + 499))" "UID_MIN $((low + 500))" "UID_MAX $((low + 999))" \
  "SYS_GID_MIN $low" "SYS_GID_MAX $((low + 499))" "GID_MIN $((low + 500))" "GID_MAX $((low + 999))" >>/etc/login.defs
# A network with an address and a way out that leads nowhere: both ends of the cable are in here.
ip link set lo up
ip link add quay0 type veth peer name quay1
ip address add "192.0.2.$((number + 1))/24" dev quay0
ip link set quay0 up
ip link set quay1 up
ip route add default via 192.0.2.254
# The project may lie below /tmp itself.
chmod 1777 tmp
case $repository in
  /tmp/*)
    mkdir -p "tmp/${repository#/tmp/}"
    mount --rbind "$repository" "tmp/${repository#/tmp/}"
    ;;
esac
mount --rbind tmp /tmp
cd /
status=0
"$@" || status=$?
exit $status
