#!/bin/sh
# Install Debian packages: as root, or with sudo where it asks for no password.
set -eu
if [ "$(id -u)" = 0 ]; then become=; elif sudo -n true 2>/dev/null; then become="sudo -n"; else
  echo "please have these Debian packages installed, then try again: $*" >&2
  exit 1
fi
export DEBIAN_FRONTEND=noninteractive
$become apt-get update -qq
$become apt-get install -y -qq --no-install-recommends "$@" >/dev/null
