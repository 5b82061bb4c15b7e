#!/bin/sh
# Installs the tools that the tests use beside Go, where apt may be used.
# With CI=true a tool that is still missing is an error.
set -u
missing=""
need() { command -v "$1" >/dev/null 2>&1 || missing="$missing $2"; }
need age age
need zstd zstd
need b3sum b3sum
need tar tar
need script bsdutils
need wine wine
need x86_64-w64-mingw32-gcc gcc-mingw-w64-x86-64
need hivexregedit libwin-hivex-perl
need mdb-count mdbtools
for app in ledger notmuch newsboat; do need $app $app; done
/usr/bin/python3 -c "import radicale" 2>/dev/null || missing="$missing python3-radicale" # the library alone starts no server
need task taskwarrior
need sqlite3 sqlite3
[ -x "$(ls -d /usr/lib/postgresql/*/bin/initdb 2>/dev/null | tail -1)" ] || missing="$missing postgresql"
[ -x /usr/sbin/mariadbd ] || missing="$missing mariadb-server"
[ -x /usr/sbin/firebird ] && [ -x /usr/bin/isql-fb ] || missing="$missing firebird3.0-server firebird3.0-utils"
[ -x /usr/sbin/sshd ] || missing="$missing openssh-server"
[ -z "$missing" ] && exit 0

if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	echo "installing:$missing"
	case "$missing" in *wine*) missing="$missing wine64" ;; esac
	export DEBIAN_FRONTEND=noninteractive
	apt-get update -qq && apt-get install -y -qq --no-install-recommends $missing >/dev/null
	# An extension whose own tables hold settings: a test tries it where it is.
	for share in /usr/share/postgresql/*/extension; do
		version=$(basename "$(dirname "$share")")
		[ -f "$share/pg_partman.control" ] || apt-get install -y -qq --no-install-recommends "postgresql-$version-partman" >/dev/null 2>&1 || true
	done
fi

left=""
for tool in age zstd b3sum tar script wine x86_64-w64-mingw32-gcc hivexregedit mdb-count task sqlite3 ledger notmuch newsboat; do
	command -v "$tool" >/dev/null 2>&1 || left="$left $tool"
done
/usr/bin/python3 -c "import radicale" 2>/dev/null || left="$left python3-radicale"
[ -x "$(ls -d /usr/lib/postgresql/*/bin/initdb 2>/dev/null | tail -1)" ] || left="$left postgresql"
[ -x /usr/sbin/mariadbd ] || left="$left mariadb-server"
[ -x /usr/sbin/firebird ] && [ -x /usr/bin/isql-fb ] || left="$left firebird3.0-server"
[ -x /usr/sbin/sshd ] || left="$left openssh-server"
[ -z "$left" ] && exit 0
if [ "${CI:-}" = true ]; then
	echo "missing, and needed with CI=true:$left" >&2
	exit 1
fi
echo "missing:$left"
echo "Tests that need them are skipped. Install them with apt, or run make test as root, to run all."
