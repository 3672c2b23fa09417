#!/bin/sh
# Run tests once more with the modules for Windows in place of those for POSIX, on a disk without
# links, modes and case, where one can be mounted: exFAT, by FUSE.
set -eu
cd "$(dirname "$0")/.."
PATH=$PATH:/usr/sbin
place=$(mktemp -d)
device=
end() {
  cd /
  umount "$place" 2>/dev/null || true
  [ -z "$device" ] || losetup -d "$device"
  rm -rf "$place" "$place.img"
}
trap end EXIT
if command -v mount.exfat-fuse >/dev/null && truncate -s 2G "$place.img" &&
  mkfs.exfat "$place.img" >/dev/null && device=$(losetup -f --show "$place.img" 2>/dev/null) &&
  mount.exfat-fuse "$device" "$place" >/dev/null; then
  echo "on exFAT"
else
  echo "exFAT cannot be mounted here: on the disk that is there"
fi
PYTHONPATH=$PWD/tests/as_windows${PYTHONPATH:+:$PYTHONPATH} .venv/bin/pytest -n 2 --basetemp="$place/t" -p no:cacheprovider "$@"
