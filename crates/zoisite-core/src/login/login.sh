# What a host says of itself to whoever is in, beside what every look asks for.
look_around() {
  for program in awk cat chmod chown cmp cp cut date dd df dirname env find flock getent grep head id ln ls \
    mkdir mktemp mv readlink rm sed sha256sum sleep sort stat tail test timeout tr uname wc; do
    command -v "$program" >/dev/null || say lacks "$program"
  done
  if [ -d /run/systemd/system ]; then say systemd yes; else say systemd no; fi
  say user "${SUDO_USER:-$(id -un)}"
}
