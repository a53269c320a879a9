# Completion of juniper for fish: asks the tool what may stand there.
function __juniper_complete
    set -l words (commandline -opc)
    set -l word (commandline -ct)
    for line in ($words[1] complete $words[2..] "$word" 2>/dev/null)
        switch $line
            case ':files'
                __fish_complete_path $word
            case ':folders'
                __fish_complete_directories $word
            case '*'
                echo $line
        end
    end
end
complete -c juniper -f -a '(__juniper_complete)'
