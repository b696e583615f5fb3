"""Let a guest's last partition and its file system use what a disk was grown by: the script that does, and its answers.

It touches nothing else: a partition that another one follows, and contents that it does not know (encrypted, a volume
group), are left as they are, and it says so.
"""

from __future__ import annotations

from dacha.core.inside.answers import answers_of
from dacha.core.named import NamedTuple
from dacha.core.units import whole_number

_SAID, _END = "grow", "grow end"
# SERIAL is the disk's serial number, DEVICE its name if it is known.
_SCRIPT = r"""PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"
export PATH LC_ALL=C
say() { echo "@SAID@ $*"; }
finish() { echo '@END@'; exit 0; }
[ "$(id -u)" = 0 ] || { say denied; finish; }
disk=@DEVICE@
for place in /sys/block/*; do
  [ -z "$disk" ] || break
  for file in "$place/serial" "$place/device/serial"; do
    [ -r "$file" ] && [ "$(tr -d ' \0' < "$file")" = @SERIAL@ ] && disk=${place##*/}
  done
done
if [ -z "$disk" ]; then
  link=$(ls -d /dev/disk/by-id/*@SERIAL@ 2> /dev/null | head -n 1)
  [ -n "$link" ] && disk=$(basename "$(readlink -f "$link")")
fi
[ -n "$disk" ] && [ -b "/dev/$disk" ] || { say left "its system does not show the disk"; finish; }
say disk "/dev/$disk"
# The partition that no other one follows; none on a disk without partitions.
last= number= far=-1
for place in /sys/block/"$disk"/"$disk"*; do
  [ -r "$place/start" ] || continue
  if [ "$(cat "$place/start")" -gt "$far" ]; then
    far=$(cat "$place/start") last=${place##*/} number=$(cat "$place/partition")
  fi
done
if [ -n "$last" ]; then
  size=$(cat "/sys/block/$disk/$last/size")
  # A mebibyte may stay free behind it: for the second table of GPT, and for alignment.
  if [ $((far + size + 4096)) -lt "$(cat "/sys/block/$disk/size")" ]; then
    if command -v growpart > /dev/null; then
      growpart "/dev/$disk" "$number" > /dev/null 2>&1
    elif command -v sfdisk > /dev/null && command -v partx > /dev/null; then
      echo ', +' | sfdisk -q --no-reread --force -N "$number" "/dev/$disk" > /dev/null 2>&1
      partx -u -n "$number" "/dev/$disk" > /dev/null 2>&1
    elif command -v parted > /dev/null; then
      parted -s "/dev/$disk" resizepart "$number" 100% > /dev/null 2>&1
    else
      say left "it has none of the programs growpart, sfdisk and parted"
      finish
    fi
    now=$(cat "/sys/block/$disk/$last/size")
    [ "$now" -gt "$size" ] || { say left "its partition $last could not be grown"; finish; }
    say partition "/dev/$last"
  fi
fi
device=/dev/${last:-$disk}
mounted=$(awk -v d="$device" '$1 == d { print $2; exit }' /proc/mounts)
kind=$(blkid -p -o value -s TYPE "$device" 2> /dev/null)
[ -n "$kind" ] || kind=$(awk -v d="$device" '$1 == d { print $3; exit }' /proc/mounts)
before=$(df -k "${mounted:-/nowhere}" 2> /dev/null | awk 'NR == 2 { print $2 }')
case $kind in
  ext2 | ext3 | ext4) tool=resize2fs; set -- resize2fs "$device" ;;
  xfs) tool=xfs_growfs; set -- xfs_growfs "$mounted" ;;
  btrfs) tool=btrfs; set -- btrfs filesystem resize max "$mounted" ;;
  '') say left "no file system is on $device"; finish ;;
  *) say left "$device has $kind, which is not grown by itself"; finish ;;
esac
[ -n "$mounted" ] || { say left "$device is not mounted"; finish; }
command -v $tool > /dev/null || { say left "it does not have the program $tool"; finish; }
why=$("$@" 2>&1 > /dev/null) || { say left "$tool: $(echo "$why" | tail -n 1)"; finish; }
after=$(df -k "$mounted" | awk 'NR == 2 { print $2 }')
say grown "${before:-0} $after $mounted"
finish
"""


class Grown(NamedTuple):
    """The answers: the file system's mount point, and its size before and now (bytes); or why it was left as it is."""

    place: str = ""
    before: int = 0
    now: int = 0
    left: str = ""


def script(serial: str, device: str = "") -> str:
    """The script for the disk with this serial number, or for a `device` such as "vda". Both consist of letters, digits
    and dashes."""
    parts = {"@SAID@": _SAID, "@END@": _END, "@SERIAL@": serial, "@DEVICE@": device}
    text = _SCRIPT
    for mark, value in parts.items():
        text = text.replace(mark, value)
    return text


def read_answers(out: str) -> Grown | None:
    """The script's answers from its output; None if it did not reach its end."""
    all_of = answers_of(out, _SAID, _END)
    if all_of is None:
        return None
    if all_of("denied"):
        return Grown(left="the login user does not become root without a password")
    for answer in all_of("grown"):
        before, _, rest = answer.partition(" ")
        now, _, place = rest.partition(" ")
        if (was := whole_number(before)) is not None and (is_now := whole_number(now)) is not None:
            return Grown(place, was * 1024, is_now * 1024)
    return Grown(left=next(iter(all_of("left")), "its answer is not complete"))
