"""A machine with its converter and inner loops as limits and losses, from short runs of the detailed drive: `bench`
cuts that part out and puts it on a test bench, `points` runs it there, `fitted` makes the few numbers of it that a trip
takes."""
