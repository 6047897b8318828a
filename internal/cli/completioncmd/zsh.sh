#compdef gharbor
# Makes zsh complete the words of gharbor. In ~/.zshrc, behind compinit: eval "$(gharbor completion zsh)"
# As a file _gharbor in a folder of $fpath it is loaded at the first Tab.
_gharbor() {
  local kind line word
  local -a plain open plain_shown open_shown
  while IFS= read -r line; do
    if [[ -z $kind ]]; then
      kind=$line
      continue
    fi
    word=${line%%$'\t'*}
    if [[ $word == *[=:] ]]; then
      open+=("$word")
      open_shown+=("${line//$'\t'/  }")
    else
      plain+=("$word")
      plain_shown+=("${line//$'\t'/  }")
    fi
  done < <("${words[1]}" completion-words -- zsh "${(@Q)words[2,CURRENT]}" 2>/dev/null)
  compadd -l -d plain_shown -a plain
  compadd -l -S '' -d open_shown -a open
  if [[ $kind == files ]]; then
    _files
  fi
}
if [[ ${funcstack[1]} == _gharbor ]]; then
  _gharbor "$@"
else
  compdef _gharbor gharbor
fi
