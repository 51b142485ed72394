/* Profiles over time: straight between their corners, on each of which the run lands. */

/* Set offset and slope of each profile for the stretch that begins at t; return the time of the next corner. */
static double enter_stretch(work_t *w)
{
    run_t *r = w->r;
    double next = INFINITY;
    int k, at = 0;
    for (k = 0; k < r->n_profile; k++) {
        const double *times = r->profile_times + at, *values = r->profile_values + at;
        int n = r->profile_count[k], j = w->segment[k];
        double slope = 0, offset;
        while (j < n && times[j] <= w->t) j++;
        w->segment[k] = j;
        if (n == 0) offset = 0;
        else if (j == 0) offset = values[0];
        else if (j == n) offset = values[n - 1];
        else {
            slope = (values[j] - values[j - 1]) / (times[j] - times[j - 1]);
            offset = values[j - 1] - slope * times[j - 1];
        }
        if (j < n && times[j] < next) next = times[j];
        w->u[r->n_command + k] = offset;
        w->u[r->n_command + r->n_profile + k] = slope;
        at += n;
    }
    return next;
}
