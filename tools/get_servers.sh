#!/bin/sh
# The real servers that the tests talk to. Without the right to install them their tests are skipped.
set -eu
[ -x /usr/sbin/nginx ] || command -v nginx >/dev/null 2>&1 || {
  echo "installing nginx for the tests" >&2
  sh "$(dirname "$0")/get_package.sh" nginx-light || echo "its tests will be skipped" >&2
}
