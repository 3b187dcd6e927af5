#!/bin/sh
# machine.sh ROOT GROUP: boots the init of ROOT as process 1 of namespaces of its own, in the cgroup GROUP. Ends as that machine
# does: reboot(2) ends process 1 by SIGHUP for a restart and by SIGINT for power off (pid_namespaces(7)).
set -e
mkdir -p "$2"
echo $$ >"$2/cgroup.procs"
exec unshare --pid --mount --uts --ipc --net --cgroup --fork --kill-child sh -c '
  set -e
  root=$1
  mount --make-rprivate /
  mount -t proc proc "$root/proc"
  mount --bind "$root/proc/sys" "$root/proc/sys"
  mount -o remount,bind,ro "$root/proc/sys"
  mount -t sysfs -o ro sysfs "$root/sys"
  mount -t tmpfs tmpfs "$root/sys/fs/cgroup"
  mount -t cgroup2 cgroup2 "$root/sys/fs/cgroup"
  mount -t tmpfs tmpfs "$root/run"
  mount -t tmpfs -o mode=755 tmpfs "$root/dev"
  for node in "null 3" "zero 5" "full 7" "random 8" "urandom 9"; do mknod -m 666 "$root/dev/${node% *}" c 1 "${node#* }"; done
  mknod -m 666 "$root/dev/tty" c 5 0
  mkdir "$root/dev/pts" "$root/dev/shm"
  mount -t devpts -o newinstance,ptmxmode=666 devpts "$root/dev/pts"
  ln -s pts/ptmx "$root/dev/ptmx"
  hostname skerry
  # Nothing of the host can be reached or changed from inside: no devices, no clock, no kernel modules.
  exec setpriv --bounding-set -sys_time,-mknod,-sys_module,-sys_rawio,-syslog env -i container=trial PATH=/usr/sbin:/usr/bin:/sbin:/bin chroot "$root" /sbin/init
' machine "$1"
