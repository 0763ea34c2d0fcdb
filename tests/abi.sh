#!/usr/bin/env bash
# The C interface's functions, as the libraries offer them, against the list that programs already built rely on: none may go; new ones are
# added to the list. Usage: abi.sh SHARED_LIBRARY STATIC_LIBRARY LIST
set -eu
list=$(sed 's/ *#.*//' "$3" | awk 'NF { print $1 }' | sort)
offered() { sed -n 's/.* T \(lathe_[a-z_]*\)$/\1/p' | sort -u; }
fault=0
compare() {
  local gone new
  gone=$(comm -23 <(echo "$2") <(echo "$3")) new=$(comm -13 <(echo "$2") <(echo "$3"))
  [ -z "$gone" ] || { echo "$1 no longer has: $gone" >&2; fault=1; }
  [ -z "$new" ] || { echo "$1 has what the list does not: $new" >&2; fault=1; }
}
compare "the library" "$list" "$(nm -D --defined-only "$1" | offered)"
# Reading models is not the library of deployment's business.
compare "the library of deployment" "$(grep -v '^lathe_compile' <<<"$list")" "$(nm --defined-only "$2" 2>/dev/null | offered)"
exit $fault
