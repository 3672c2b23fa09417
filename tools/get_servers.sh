#!/bin/sh
# The real servers that the tests talk to. Without the right to install them their tests are skipped.
set -eu
PATH=$PATH:/usr/sbin
get() { # PROGRAM PACKAGE
  command -v "$1" >/dev/null 2>&1 || {
    echo "installing $2 for the tests" >&2
    sh "$(dirname "$0")/get_package.sh" "$2" || echo "its tests will be skipped" >&2
  }
}
get nginx nginx-light
get apache2 apache2-bin
get vsftpd vsftpd
