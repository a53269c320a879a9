# Completion of juniper for bash: asks the tool what may stand there.
_juniper() {
  local -a words=("${COMP_WORDS[@]:1:COMP_CWORD}")
  local word=${COMP_WORDS[COMP_CWORD]} candidate shown
  # bash splits --option=value in three; the tool knows it as one word.
  if ((COMP_CWORD >= 2)) && [[ $word == "=" ]]; then
    words=("${COMP_WORDS[@]:1:COMP_CWORD-2}" "${COMP_WORDS[COMP_CWORD - 1]}=")
    word=
  elif ((COMP_CWORD >= 3)) && [[ ${COMP_WORDS[COMP_CWORD - 1]} == "=" ]]; then
    words=("${COMP_WORDS[@]:1:COMP_CWORD-3}" "${COMP_WORDS[COMP_CWORD - 2]}=$word")
  fi
  COMPREPLY=()
  while IFS= read -r candidate; do
    case $candidate in
      :files) compopt -o filenames; while IFS= read -r shown; do COMPREPLY+=("$shown"); done < <(compgen -f -- "$word") ;;
      :folders) compopt -o filenames; while IFS= read -r shown; do COMPREPLY+=("$shown"); done < <(compgen -d -- "$word") ;;
      *)
        candidate=${candidate%%$'\t'*}
        [[ ${words[${#words[@]} - 1]} == *=* && $candidate == --*=* ]] && candidate=${candidate#*=}
        COMPREPLY+=("$candidate")
        ;;
    esac
  done < <("${COMP_WORDS[0]}" complete "${words[@]}" 2>/dev/null)
}
complete -F _juniper juniper
