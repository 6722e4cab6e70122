# Sourced by ./kind-rivet and ./check: makes what is missing on a bare Debian or Ubuntu machine and says what it does.

say() { printf '%s\n' "kind-rivet: $*" >&2; }

apt_packages=(python3-venv libegl1 libegl-mesa0 libgl1 libgl1-mesa-dri libglx-mesa0 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
  libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1
  libx11-xcb1 libgomp1 fonts-dejavu-core)

missing_libraries() {
  local known name
  known=$(/sbin/ldconfig -p 2>/dev/null || true)
  for name in libglib-2.0.so.0 libEGL.so.1 libEGL_mesa.so.0 libGL.so.1 libxkbcommon.so.0 libxkbcommon-x11.so.0 libdbus-1.so.3 libfontconfig.so.1 libxcb-cursor.so.0 libxcb-icccm.so.4 \
    libxcb-image.so.0 libxcb-keysyms.so.1 libxcb-render-util.so.0 libxcb-xinerama.so.0 libxcb-xkb.so.1 libX11-xcb.so.1; do
    case "$known" in *"$name"*) ;; *) echo "$name" ;; esac
  done
}

install_system() { # packages…
  local run=()
  [ "$(id -u)" = 0 ] || run=(sudo -n)
  if command -v apt-get >/dev/null && { [ "$(id -u)" = 0 ] || sudo -n true 2>/dev/null; }; then
    say "installing system packages (once): $*"
    "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get update -qq >&2 || true
    "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >&2
  else
    say "some system packages are missing and cannot be installed from here. Please run once:"
    say "  sudo apt-get install -y $*"
    exit 1
  fi
}

find_python() {
  local name
  for name in python3.11 python3.12 python3.13 python3; do
    if command -v "$name" >/dev/null && "$name" -c 'import sys; sys.exit(not ((3, 11) <= sys.version_info[:2] <= (3, 13)))' 2>/dev/null; then
      command -v "$name"
      return
    fi
  done
}

prepare() { # project folder
  local here=$1 python stamp kernels
  stamp=$(cat "$here/requirements.lock" "$here/setup.sh" | sha256sum | cut -c1-16)
  kernels=$(cat "$here/requirements.lock" $(grep -rl --include='*.py' '^@kernel' "$here/src" | sort) | sha256sum | cut -c1-16)
  if [ ! -e "$here/.venv/.ready-$stamp" ]; then
    [ -z "$(missing_libraries)" ] || install_system "${apt_packages[@]}"
    python=$(find_python)
    if [ -z "$python" ]; then install_system python3 python3-venv; python=$(find_python); fi
    [ -n "$python" ] || { say "Python 3.11 or newer is needed and was not found."; exit 1; }
    if [ ! -x "$here/.venv/bin/python" ]; then
      say "making the virtual environment"
      "$python" -m venv "$here/.venv" 2>/dev/null || { rm -rf "$here/.venv"; install_system python3-venv; "$python" -m venv "$here/.venv"; }
    fi
    say "installing the pinned packages (once, a few minutes)"
    "$here/.venv/bin/python" -m pip install --quiet --disable-pip-version-check --no-deps -r "$here/requirements.lock" >&2
    "$here/.venv/bin/python" - "$here/src" <<'PY'
import site, sys
from pathlib import Path
(Path(site.getsitepackages()[0]) / "kind_rivet.pth").write_text(sys.argv[1] + "\n")
PY
    rm -f "$here"/.venv/.ready-*
    touch "$here/.venv/.ready-$stamp"
  fi
  if [ ! -e "$here/.venv/.kernels-$kernels" ]; then
    "$here/.venv/bin/python" -m compileall -q "$here/src" # some machines forbid Python to do so as it goes
    "$here/.venv/bin/python" -m kind_rivet.warm >&2
    rm -f "$here"/.venv/.kernels-*
    touch "$here/.venv/.kernels-$kernels"
  fi
}
