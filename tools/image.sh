#!/usr/bin/env bash
# What the container's image is made by: image.sh FOLDER-WITH-THE-WHEEL PLACE
# With IVRELL_IMAGE_SYSTEM=no it leaves the system's packages and accounts as they are.
set -euo pipefail
from="$1" place="$2"
if [[ "${IVRELL_IMAGE_SYSTEM:-yes}" != no ]]; then
  export DEBIAN_FRONTEND=noninteractive
  apt-get update -q
  # git for gates against a version; libreoffice-calc for sheets, its Python bridge too.
  apt-get install -q -y --no-install-recommends python3 python3-venv postgresql bubblewrap \
    libseccomp2 util-linux git libreoffice-calc python3-uno ca-certificates
  rm -rf /var/lib/apt/lists/*
  useradd --system --create-home --home-dir /data --shell /usr/sbin/nologin ivrell
  chmod 0750 /data
fi
python3 -m venv "$place"
wheels=("$from"/ivrell-*.whl)
if ((${#wheels[@]} != 1)) || [[ ! -f "${wheels[0]}" ]]; then
  echo "There is to be one wheel in $from: pip wheel --no-deps -w dist ." >&2
  exit 2
fi
"$place/bin/python" -m pip install -q --no-cache-dir --disable-pip-version-check "${wheels[0]}[server]"
"$place/bin/python" -m compileall -q -j 0 "$place/lib" >/dev/null || true
"$place/bin/ivrell" engines >/dev/null
