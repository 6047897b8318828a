# Makes fish complete the words of gharbor. In ~/.config/fish/completions/gharbor.fish
function __gharbor_words
    set -l before (commandline -opc)
    set -l typed (commandline -ct)
    set -l lines ($before[1] completion-words -- fish $before[2..] "$typed" 2>/dev/null)
    printf '%s\n' $lines[2..]
    if test "$lines[1]" = files
        __fish_complete_path "$typed"
    end
end
complete -c gharbor -f -a '(__gharbor_words)'
