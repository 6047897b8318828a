# Makes bash complete the words of gharbor. In ~/.bashrc: eval "$(gharbor completion bash)"
_gharbor_complete() {
  local kind='' line
  COMPREPLY=()
  while IFS= read -r line; do
    if [[ -z $kind ]]; then
      kind=$line
    else
      COMPREPLY+=("${line%%$'\t'*}")
    fi
  done < <("${COMP_WORDS[0]}" completion-words -- bash "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null)
  if [[ $kind == files ]]; then
    compopt -o default 2>/dev/null
  fi
  if [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[=:] ]]; then
    compopt -o nospace 2>/dev/null
  fi
}
complete -F _gharbor_complete gharbor
