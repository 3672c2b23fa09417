#!/bin/sh
# Make a virtual environment in the folder named. A bare Debian keeps the module for that in a
# package of its own; it is installed if this may be done without asking.
set -eu
venv=$1
python=${PYTHON:-python3}
if "$python" -m venv "$venv" >/dev/null 2>&1; then exit 0; fi
rm -rf "$venv"
echo "python's venv module is missing; installing it" >&2
sh "$(dirname "$0")/get_package.sh" python3-venv
"$python" -m venv "$venv"
