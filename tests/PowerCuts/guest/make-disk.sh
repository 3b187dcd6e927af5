#!/bin/sh
# make-disk.sh CACHE PROGRAMS TO: a machine for an emulator, in the directory TO: vmlinuz, first.cpio (finds the disk and goes
# on from it) and disk.img (a minimal Debian with the sentry in /opt/calm). What takes long is made once, in CACHE.
set -e
cache=$1 programs=$2 to=$3 here=$(dirname "$0")
if [ ! -e "$cache/root/opt/boot" ]; then
  . /etc/os-release
  mkdir -p "$cache"
  rm -rf "$cache/root" "$cache/root.part"
  with=perl-base,linux-image-cloud-amd64,busybox-static
  # From Debian's own archive; else from wherever this host has its packages from.
  mmdebstrap --quiet --variant=minbase --include=$with "$VERSION_CODENAME" "$cache/root.part" ||
    cat /etc/apt/sources.list /etc/apt/sources.list.d/*.list /etc/apt/sources.list.d/*.sources 2>/dev/null |
    mmdebstrap --quiet --variant=minbase --include=$with "$VERSION_CODENAME" "$cache/root.part" -
  rm -rf "$cache/root.part/var/cache/apt" "$cache/root.part/usr/share/doc"
  ln -sf /bin/busybox "$cache/root.part/sbin/init"
  touch "$cache/root.part/opt/boot"
  mv "$cache/root.part" "$cache/root"
fi
root=$cache/root
mkdir -p "$to" "$root/opt/calm"
cp "$root"/boot/vmlinuz-* "$to/vmlinuz"
modules=$(ls "$root/lib/modules")
first=$(mktemp -d)
trap 'rm -rf "$first"' EXIT
mkdir -p "$first/bin" "$first/dev" "$first/disk"
cp "$root/bin/busybox" "$first/bin/busybox"
order=
for module in virtio_pci virtio_blk; do
  for file in $(chroot "$root" /sbin/modprobe -S "$modules" --show-depends $module | sed 's/^insmod //'); do
    cp "$root$file" "$first/"
    order="$order /$(basename "$file")"
  done
done
cat >"$first/init" <<END
#!/bin/busybox sh
busybox mount -t devtmpfs dev /dev
for module in$order; do busybox insmod \$module 2>/dev/null; done
until [ -b /dev/vda ]; do busybox sleep 0.05; done
busybox mount -t ext4 /dev/vda /disk && exec busybox switch_root /disk /sbin/init
END
chmod 755 "$first/init"
(cd "$first" && find . | cpio --quiet -o -H newc) >"$to/first.cpio"
cp --remove-destination "$programs"/calm "$programs"/calm-sentry "$programs"/calm-keeper "$programs"/lib*.so "$root/opt/calm/"
cp --remove-destination "$here/boot" "$here/asks.pl" "$here/program.pl" "$root/opt/"
printf '::sysinit:/opt/boot\n::once:/opt/asks.pl\n' >"$root/etc/inittab"
rm -f "$to/disk.img"
mke2fs -q -t ext4 -d "$root" "$to/disk.img" 1500M
