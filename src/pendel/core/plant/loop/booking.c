/* Switching energies while a run goes on: at each change of a gate, what its device loses is added to a state (J), from
 * which it goes on as heat. Of each device that is booked, the model gives voltage and current in its forward direction
 * and the energies of turning on and off over their product. What is switched is the voltage before and the current
 * after turning on, the current before and the voltage after turning off; as reckoned after a run, see
 * `energies_of` in device_events.py. */
enum { OF_DEVICE = 4 };

/* Voltages and currents as they are before gates change at w->t. */
static void look_at_devices(work_t *w)
{
    run_t *r = w->r;
    int k;
    r->switched(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, w->devices);
    for (k = 0; k < r->n_switched; k++) w->gates[k] = w->s[r->switched_gates[k]];
}

/* Book what the gates' changes since then have cost, where there were any. A state that jumps has a row before and one
 * after, as all others are continuous between rows. Returns 0 where there is no room for it. */
static int book_energies(work_t *w)
{
    run_t *r = w->r;
    double *after = w->devices + OF_DEVICE * r->n_switched;
    int k, booked = 0;
    r->switched(w->t, w->x, w->u, w->s, r->p, w->set->hoisted, after);
    for (k = 0; k < r->n_switched; k++) {
        const double *from = w->devices + OF_DEVICE * k, *to = after + OF_DEVICE * k;
        double gate = w->s[r->switched_gates[k]], energy;
        if (gate == w->gates[k]) continue;
        energy = gate > w->gates[k] ? most(from[0], 0) * most(to[1], 0) * to[2]
                                    : most(to[0], 0) * most(from[1], 0) * to[3];
        if (!(energy > 0)) continue;
        if (!booked && !record(w)) return 0;
        w->x[r->switched_states[k]] += energy;
        booked = 1;
    }
    if (booked) refresh(w);
    return 1;
}
