# Steps of a set-up that go side by side, each with a log and its seconds. Sourced after setup.sh.
# shellcheck shell=bash

SETUP_LOGS="$IVRELL_HOME/.setup"
mkdir -p "$SETUP_LOGS"
_TOLD_AFTER_S=2
_LAST_LINES=15
_LOCK_S=1800
_names=() _pids=()

# One set-up at a time in a checkout: who comes second waits, and then finds all there.
lock_setup() {
  exec 9>"$SETUP_LOGS/lock"
  flock -n 9 && return
  say "Another set-up goes on in this checkout; waiting for it"
  flock -w "$_LOCK_S" 9 && return
  say "It has not ended after $((_LOCK_S / 60)) minutes. Its logs are in $SETUP_LOGS; end it, and start again."
  exit 1
}

unlock_setup() { exec 9>&-; }

# step NAME FUNCTION...: begin a step; what it says goes into its log. It holds the lock too: one
# that goes on after Ctrl-C is waited for by the next start.
step() {
  local name="$1"
  shift
  (
    SECONDS=0
    "$@"
    printf '%s' "$SECONDS" >"$(_log_of "$name").seconds"
  ) >"$(_log_of "$name")" 2>&1 &
  _names+=("$name") _pids+=("$!")
}

_log_of() { printf '%s/%s.log' "$SETUP_LOGS" "${1// /-}"; }

# Wait for all steps; says what takes its time, and of a step that fails what it said last.
finish_steps() {
  local place index took failed=0 going=()
  for ((place = 0; place < 20; place++)); do
    going=()
    for index in "${!_pids[@]}"; do
      kill -0 "${_pids[index]}" 2>/dev/null && going+=("${_names[index]}")
    done
    ((${#going[@]})) || break
    sleep 0.1
  done
  ((${#going[@]})) && say "Setting up, side by side: $(_joined "${going[@]}")"
  for index in "${!_pids[@]}"; do
    if wait "${_pids[index]}"; then
      took="$(cat "$(_log_of "${_names[index]}").seconds")"
      ((took < _TOLD_AFTER_S)) || say "  ${_names[index]}: $took s"
    else
      failed=1
      say "Setting up failed at: ${_names[index]}. Its last lines (all in $(_log_of "${_names[index]}")):"
      tail -n "$_LAST_LINES" "$(_log_of "${_names[index]}")" | sed 's/^/  /' >&2
    fi
  done
  _names=() _pids=()
  ((failed == 0)) || exit 1
  return 0
}

_joined() {
  local text="$1"
  shift
  while (($# > 1)); do text+=", $1" && shift; done
  (($#)) && text+=" and $1"
  printf '%s' "$text"
}

# What ./start can begin without: installed behind it, while those lanes say that they arrive.
arrive_behind() {
  local mark="$SETUP_LOGS/arriving"
  # Nobody's child: what takes this process's place would have to wait for it.
  (
    (
      exec 9>&- 8>"$SETUP_LOGS/arriving.lock"
      flock -n 8 || exit 0
      printf '%s\n' "$BASHPID" >"$mark"
      trap 'rm -f "$mark"' EXIT
      setup_sheets
      setup_mariadb
      setup_mariadb_driver
    ) >"$SETUP_LOGS/arriving.log" 2>&1 </dev/null &
  )
}
