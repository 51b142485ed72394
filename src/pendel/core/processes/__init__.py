"""Work that another process does: what is asked of it (requests), how it is done (performing), what comes back
(answers), the confined process that waits for requests (worker), and the one that runs typed C (runner)."""
