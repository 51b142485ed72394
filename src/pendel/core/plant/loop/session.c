/* A run as something that is opened, advanced, saved, restored, given other values, and closed. */

static int layout_of(int which)
{
    const int sizes[] = {PD_LAYOUT, (int)sizeof(run_t), (int)sizeof(pulse_t), (int)sizeof(hoists_t)};
    return which >= 0 && which < (int)(sizeof sizes / sizeof *sizes) ? sizes[which] : 0;
}

/* Version of the shared structs (0), and the bytes of each (1, 2, 3). */
int pd_layout(int which) { return layout_of(which); }

/* Speeds (rad/s, m/s) above this are no rest; as in the guards of frictions (`equations/friction.py`). */
static const double MOVES = 1e-9;

/* A friction whose speed does not begin at zero slides from the first instant on. Its guards could not tell: those of
 * sticking are of forces, which mean nothing at a speed, and the furthest of them might win and put that to zero. */
static void let_moving_slide(work_t *w)
{
    run_t *r = w->r;
    int i, slid = 0;
    if (!r->n_hold) return;
    r->hold(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->w, w->grad);
    for (i = 0; i < r->n_hold; i++) {
        if (!r->hold_sticks[i] || w->s[r->hold_mode[i]] != 0 || !(fabs(w->w[i]) > MOVES)) continue;
        w->s[r->hold_mode[i]] = w->w[i] > 0 ? 1 : -1;
        slid = 1;
    }
    if (slid) enter_modes(w, SEVERAL);
}

/* A run at its start, not yet advanced; none where there is no memory. */
work_t *pd_open(run_t *r)
{
    work_t *w = malloc(sizeof *w);
    if (!w || !open_work(w, r)) { free(w); return 0; }
    w->control = &CONTROLS[r->method];
    memcpy(w->x, r->x0, sizeof(double) * (size_t)r->nx);
    memcpy(w->s, r->s0, sizeof(double) * (size_t)r->n_mode);
    w->h = least(r->n_signal ? r->tick : 1e-5, r->t_end);
    w->max_step_for_order[3] = w->usual = w->h;
    w->shares = 1;
    w->many_shares = LEAST_SHARES;
    w->next_look = 16;
    note_peaks(w);
    w->event_time = -1;
    w->t_tick = r->n_signal ? 0 : INFINITY;
    w->corner = enter_stretch(w);
    r->outcome = PAUSED;
    if (!reserve(w)) { release(w); free(w); return 0; }
    enter_modes(w, SEVERAL);
    let_moving_slide(w);
    return w;
}

/* What the plant gets in the first tick, while commands wait for one. */
void pd_wait(work_t *w, const double *commands)
{
    memcpy(w->pending, commands, sizeof(double) * (size_t)w->r->n_command);
}

void pd_close(work_t *w)
{
    release(w);
    free(w);
}

/* Parameters or profiles were changed: they hold from the present instant on, which becomes an edge. */
void pd_renew(work_t *w)
{
    forget_sets(w);
    memset(w->segment, 0, (size_t)w->r->n_profile * sizeof(int));
    w->corner = enter_stretch(w);
    enter_modes(w, SEVERAL);
    w->within = 0;
}

/* The present instant as a row, and all signals of the latest tick. */
void pd_now(work_t *w, double *row, double *signals)
{
    write_row(w, row);
    memcpy(signals, w->signals, sizeof(double) * (size_t)w->r->n_signal);
}

void pd_release(double *rows) { free(rows); }
