#!/bin/sh
# Everything one does with this project, each in its virtual environment: ./do WHAT
#   demo         install Ivrel and run the example
#   test         install what the tests need and run them; with --all, the deep ones, too
#   lint         ruff and mypy
#   bench        the audit of 10,000 devices (550 MB) against one grep
#   screenshots  the pictures in docs/screenshots (needs xvfb, xterm, imagemagick)
set -eu
cd "$(dirname "$0")"
venv="${IVREL_VENV:-.venv}"
python="${PYTHON:-python3}"

need() {
    [ -x "$venv/bin/python" ] || "$python" -m venv "$venv"
    "$venv/bin/python" -m pip install --quiet --disable-pip-version-check "$@"
}

what="${1:-}"
[ $# -gt 0 ] && shift
case "$what" in
    demo)
        need -e .
        "$venv/bin/ivrel" demo --replace "$@"
        echo "To type ivrel without its path: . $venv/bin/activate"
        ;;
    test) need -e '.[test]' && exec "$venv/bin/python" -m pytest -n auto --dist worksteal "$@" ;;
    lint)
        need -e '.[test,lint]'
        "$venv/bin/ruff" check . && "$venv/bin/ruff" format --check . && "$venv/bin/mypy"
        ;;
    bench) need -e . && exec "$venv/bin/python" bench/audit.py "$@" ;;
    screenshots) need -e '.[figures]' && exec "$venv/bin/python" docs/screenshots.py "$@" ;;
    *)
        sed -n '2,7s/^# \{0,1\}//p' "$0"
        exit 2
        ;;
esac
