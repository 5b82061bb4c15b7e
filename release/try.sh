#!/bin/sh
# Installs a release on a clean Debian in a chroot, and uses it there as a newcomer would: the package with its man pages and
# completion, and the folder for the stick. Needs root, debootstrap, and a release in build/release (make release).
#
#   make release && sh release/try.sh [MIRROR]
set -eu
cd "$(dirname "$0")/.."
root=$(mktemp -d)
chmod 755 "$root"
trap 'umount "$root/proc" 2>/dev/null || true; rm -rf "$root"' EXIT
# shellcheck disable=SC2086 # the mirror is optional
debootstrap --variant=minbase --include=man-db,unzip,bash-completion stable "$root" ${1:-} >"$root.log" 2>&1 || { tail -5 "$root.log"; exit 1; }
rm -f "$root.log"
mkdir "$root/release"
cp build/release/movekit_*_"$(dpkg --print-architecture)".deb build/release/movekit-*-stick.zip "$root/release/"
mount -t proc proc "$root/proc"
chroot "$root" /bin/bash -eu <<'IN'
said() { grep -q "$1" || { echo "$2 does not say $1"; exit 1; }; }
dpkg -i /release/*.deb >/dev/null
movekit --version
man -P cat movekit-unpack | said existing "the man page"
. /usr/share/bash-completion/bash_completion
. /usr/share/bash-completion/completions/movekit
complete -p movekit | said __start_movekit "the completion"
movekit __complete unpack --existing '' 2>/dev/null | said keep-both "the completion of --existing"
movekit card list | said gnucash "the list of cards"
mkdir /stick && cd /stick && unzip -q /release/*stick.zip
movekit/movekit --version
cd / && movekit demo --dir /demo >/dev/null 2>&1
find /demo -name 'handover*' | said handover "the demo"
dpkg --purge movekit >/dev/null
if find /etc /usr /var/lib -name '*movekit*' -not -path '*/dpkg/*' | grep .; then echo "these were left behind"; exit 1; fi
IN
echo "The release installs and works on a clean Debian."
