#!/bin/sh
# The real servers that the tests talk to, the browser that looks at pages, and the shell that reads
# databases. Without the right to install them their tests are skipped.
set -eu
PATH=$PATH:/usr/sbin
get() { # PROGRAM PACKAGE
  command -v "$1" >/dev/null 2>&1 || {
    echo "installing $2 for the tests" >&2
    # shellcheck disable=SC2086 # several packages are several words
    sh "$(dirname "$0")/get_package.sh" $2 || echo "its tests will be skipped" >&2
  }
}
# The emulator of blob stores and two servers are programs of Node's, put beside the environment.
get_emulator() { # FOLDER
  [ -x "$1/node_modules/.bin/azurite-blob" ] && [ -x "$1/node_modules/.bin/serve" ] || {
    get npm "nodejs npm"
    echo "installing azurite, http-server and serve for the tests" >&2
    npm install --silent --no-audit --no-fund --prefix "$1" azurite@3.37.0 http-server@14 serve@14 \
      >/dev/null 2>&1 ||
      echo "its tests will be skipped" >&2
  }
}
get nginx nginx-light
get apache2 apache2-bin
get vsftpd vsftpd
get sshd "openssh-server openssh-client"
get sqlite3 sqlite3
get mount.exfat-fuse "exfat-fuse exfatprogs"
get chromedriver "chromium chromium-driver"
get lighttpd lighttpd
get caddy caddy
get webfsd webfs
get mini_httpd mini-httpd
[ -z "${1:-}" ] || get_emulator "$1"
