#!/bin/sh
# Installs what is missing from the Debian packages.
# usage: scripts/need.sh run|test
set -eu
missing=
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$missing postgresql"
if [ "$1" = test ]; then
	command -v chromium >/dev/null || missing="$missing chromium fonts-dejavu-core"
	command -v gcc >/dev/null || missing="$missing gcc libc6-dev"
fi
[ -z "$missing" ] && exit 0
echo "installing$missing"
sudo=
[ "$(id -u)" = 0 ] || sudo=sudo
$sudo apt-get update -qq
# The packages' own cluster is not needed: Soba starts one of its own.
DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends $missing >/dev/null
