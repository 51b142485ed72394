/* A controller alone: at each tick it takes what is measured and gives commands. */

size_t pd_ctl_size(void);
void pd_ctl_init(void *memory, double *values);
void pd_ctl_bind(void *memory, double *values);
void pd_ctl_tick(void *memory, const double *in, double *signals, double *out);

struct inside { size_t size; double memory[]; };

static void end_inside(unit_t *unit)
{
    free(unit->inside);
    unit->inside = 0;
}

static int start_inside(unit_t *unit)
{
    size_t size = pd_ctl_size();
    end_inside(unit);
    unit->inside = calloc(1, sizeof *unit->inside + size + sizeof(double));
    if (!unit->inside) { say(unit, "There is not enough memory for the controller."); return 0; }
    unit->inside->size = size;
    pd_ctl_init(unit->inside->memory, unit->control);
    return 1;
}

static int take_values(unit_t *unit)
{
    pd_ctl_bind(unit->inside->memory, unit->control);
    return 1;
}

static int advance_inside(unit_t *unit, long ticks)
{
    while (unit->ticks < ticks) {
        pd_ctl_tick(unit->inside->memory, unit->measured, unit->block, unit->command);
        unit->ticks++;
    }
    return 1;
}

static void look_inside(unit_t *unit) { (void)unit; }   /* a tick leaves its results where they are looked for */

static size_t bytes_inside(const unit_t *unit) { return unit->inside->size; }

static void save_inside(unit_t *unit, unsigned char *to) { memcpy(to, unit->inside->memory, unit->inside->size); }

static int restore_inside(unit_t *unit, unsigned char *from, size_t bytes)
{
    if (bytes != unit->inside->size) return 0;
    memcpy(unit->inside->memory, from, bytes);
    pd_ctl_bind(unit->inside->memory, unit->control);
    return 1;
}
