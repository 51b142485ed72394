/* pd_xcp.c: see pd_xcp.h. Commands, their layout and codes: ASAM MCD-1 XCP, part 2, protocol layer.
 * This file is yours, free of any condition. */
#include "pd_xcp.h"
#include <stddef.h>

enum { ABSOLUTE_TABLES = 0xFC, TIME_BYTES = 4, LONGEST_ENTRY = 8 };
static const char EVENT_NAME[] = "tick";

static uint32_t word_at(const uint8_t *p)
{
    return (uint32_t)p[0] | ((uint32_t)p[1] << 8);
}

static uint32_t long_at(const uint8_t *p)
{
    return word_at(p) | (word_at(p + 2) << 16);
}

static void put_word(uint8_t *p, uint32_t value)
{
    p[0] = (uint8_t)(value & 0xFFu);
    p[1] = (uint8_t)((value >> 8) & 0xFFu);
}

static void put_long(uint8_t *p, uint32_t value)
{
    put_word(p, value & 0xFFFFu);
    put_word(p + 2, value >> 16);
}

uint32_t pd_crc32(uint32_t crc, const uint8_t *data, uint32_t bytes)
{
    uint32_t k, bit;
    crc = ~crc;
    for (k = 0u; k < bytes; k++) {
        crc ^= data[k];
        for (bit = 0u; bit < 8u; bit++) {
            crc = (crc >> 1) ^ (((crc & 1u) != 0u) ? 0xEDB88320u : 0u);
        }
    }
    return ~crc;
}

/* The sampling period as a unit of the standard, which are powers of ten of 1 ns, times a word. */
static uint8_t time_unit(uint32_t tick_ns, uint32_t *ticks)
{
    uint8_t unit = 0u;
    while ((tick_ns > 0xFFFFu) || ((tick_ns >= 10u) && ((tick_ns % 10u) == 0u) && (unit < 9u))) {
        tick_ns /= 10u;
        unit++;
    }
    *ticks = (tick_ns > 0u) ? tick_ns : 1u;
    return unit;
}

static void stop_lists(pd_xcp_t *x)
{
    uint16_t k;
    for (k = 0u; k < x->list_count; k++) {
        x->lists[k].running = 0u;
        x->lists[k].selected = 0u;
    }
}

static void forget_lists(pd_xcp_t *x)
{
    stop_lists(x);
    x->list_count = 0u;
    x->table_count = 0u;
    x->entry_count = 0u;
    x->at_entry = 0u;
    x->end_entry = 0u;
    x->head = 0u;
    x->used = 0u;
}

static bool any_running(const pd_xcp_t *x)
{
    uint16_t k;
    bool found = false;
    for (k = 0u; k < x->list_count; k++) {
        if (x->lists[k].running != 0u) {
            found = true;
        }
    }
    return found;
}

void pd_xcp_init(pd_xcp_t *x, const pd_xcp_board_t *board, uint8_t *queue, uint32_t queue_bytes, uint16_t max_cto,
                 uint16_t max_dto)
{
    static const pd_xcp_t zero = {0};
    *x = zero;
    x->board = board;
    x->queue = queue;
    x->queue_bytes = queue_bytes;
    x->max_cto = max_cto;
    if (max_cto < 8u) {
        x->max_cto = 8u;
    } else if (max_cto > (uint16_t)PD_XCP_ANSWER) {
        x->max_cto = (uint16_t)PD_XCP_ANSWER;
    } else {
        /* it is as asked */
    }
    x->max_dto = (max_dto < 8u) ? 8u : max_dto;
    x->unlocked = (board->unlocks == NULL) ? 1u : 0u;
}

/* Answers. */

static uint8_t *answer(pd_xcp_t *x, uint16_t bytes)
{
    uint16_t k;
    for (k = 0u; k < bytes; k++) {
        x->answer[k] = 0u;
    }
    x->answer[0] = 0xFFu;
    x->answer_bytes = bytes;
    return x->answer;
}

static void refuse(pd_xcp_t *x, pd_xcp_code_t code)
{
    x->answer[0] = 0xFEu;
    x->answer[1] = (uint8_t)code;
    x->answer_bytes = 2u;
}

static void settle(pd_xcp_t *x, pd_xcp_code_t code)
{
    if (code == PD_XCP_OK) {
        (void)answer(x, 1u);
    } else {
        refuse(x, code);
    }
}

static uint8_t resources(const pd_xcp_t *x)
{
    return (x->board->program != NULL) ? 0x15u : 0x05u; /* values, samples, programming */
}

static void connect(pd_xcp_t *x)
{
    uint8_t *a = answer(x, 8u);
    forget_lists(x);
    x->connected = 1u;
    x->programming = 0u;
    x->unlocked = (x->board->unlocks == NULL) ? 1u : 0u;
    if (x->board->joined != NULL) {
        x->board->joined(x->board->user);
    }
    a[1] = resources(x);
    a[2] = 0x80u; /* low byte first, addresses of bytes; it says more on request */
    a[3] = (uint8_t)x->max_cto;
    put_word(a + 4, x->max_dto);
    a[6] = 1u;
    a[7] = 1u;
}

static uint8_t locked(const pd_xcp_t *x)
{
    return ((x->unlocked == 0u) && (x->board->program != NULL)) ? 0x10u : 0u;
}

static void get_status(pd_xcp_t *x)
{
    uint8_t *a = answer(x, 6u);
    a[1] = any_running(x) ? 0x40u : 0u;
    a[2] = locked(x);
}

static uint32_t letters(const char *text)
{
    uint32_t n = 0u;
    while ((text != NULL) && (text[n] != '\0')) {
        n++;
    }
    return n;
}

static void get_id(pd_xcp_t *x, const uint8_t *packet)
{
    uint8_t *a = answer(x, 8u);
    x->in_description = 1u;
    x->address = 0u;
    put_long(a + 4, (packet[1] <= 1u) ? letters(x->board->id) : 0u);
}

/* Memory. */

static const uint8_t *source_of(const pd_xcp_t *x, uint32_t bytes)
{
    const char *text = (x->in_description == 1u) ? x->board->id : EVENT_NAME;
    if (x->in_description != 0u) {
        const uint32_t n = letters(text);
        return ((x->address <= n) && (bytes <= (n - x->address))) ? (const uint8_t *)text + x->address : NULL;
    }
    return x->board->reach(x->board->user, x->extension, x->address, bytes, false);
}

static void upload(pd_xcp_t *x, uint32_t bytes)
{
    const uint8_t *from;
    uint8_t *a;
    uint32_t k;
    if ((bytes == 0u) || (bytes > ((uint32_t)x->max_cto - 1u))) {
        refuse(x, PD_XCP_RANGE);
        return;
    }
    from = source_of(x, bytes);
    if (from == NULL) {
        refuse(x, PD_XCP_DENIED);
        return;
    }
    a = answer(x, (uint16_t)(bytes + 1u));
    for (k = 0u; k < bytes; k++) {
        a[k + 1u] = from[k];
    }
    x->address += bytes;
}

static void point_at(pd_xcp_t *x, uint8_t extension, uint32_t address)
{
    x->in_description = 0u;
    x->extension = extension;
    x->address = address;
}

static void download(pd_xcp_t *x, const uint8_t *data, uint32_t bytes)
{
    const pd_xcp_board_t *b = x->board;
    uint8_t *to = (x->in_description != 0u) ? NULL : b->reach(b->user, x->extension, x->address, bytes, true);
    uint32_t k;
    if (to == NULL) {
        refuse(x, PD_XCP_PROTECTED);
        return;
    }
    for (k = 0u; k < bytes; k++) {
        to[k] = data[k];
    }
    (void)answer(x, 1u);
    if (x->board->written != NULL) {
        x->board->written(x->board->user, x->extension, x->address, bytes);
    }
    x->address += bytes;
}

static void build_checksum(pd_xcp_t *x, uint32_t bytes)
{
    const uint8_t *from = source_of(x, bytes);
    if (from == NULL) {
        refuse(x, PD_XCP_DENIED);
    } else {
        uint8_t *a = answer(x, 8u);
        a[1] = 0x09u; /* CRC-32 */
        put_long(a + 4, pd_crc32(0u, from, bytes));
        x->address += bytes;
    }
}

/* Keys. */

static void get_seed(pd_xcp_t *x, const uint8_t *packet)
{
    uint8_t *a;
    if ((x->board->seed == NULL) || (packet[1] != 0u) || (x->max_cto < (2u + (uint16_t)PD_XCP_SEED))) {
        refuse(x, PD_XCP_RANGE);
        return;
    }
    a = answer(x, 2u + (uint16_t)PD_XCP_SEED);
    a[1] = (uint8_t)PD_XCP_SEED;
    x->board->seed(x->board->user, a + 2);
}

static void unlock(pd_xcp_t *x, const uint8_t *packet, uint32_t bytes)
{
    if ((x->board->unlocks == NULL) || (packet[1] == 0u) || ((uint32_t)packet[1] > (bytes - 2u))) {
        refuse(x, PD_XCP_SYNTAX);
    } else if (!x->board->unlocks(x->board->user, packet + 2, packet[1])) {
        x->connected = 0u; /* as the standard asks */
        refuse(x, PD_XCP_LOCKED);
    } else {
        uint8_t *a = answer(x, 2u);
        x->unlocked = 1u;
        a[1] = locked(x);
    }
}

/* Lists of samples. Spans of tables and entries are given out one behind the other. */

static bool known_list(const pd_xcp_t *x, uint32_t list)
{
    return list < x->list_count;
}

static void allocate_lists(pd_xcp_t *x, uint32_t count)
{
    uint32_t k;
    if ((x->table_count != 0u) || (x->list_count != 0u)) {
        refuse(x, PD_XCP_SEQUENCE);
    } else if (count > (uint32_t)PD_XCP_LISTS) {
        refuse(x, PD_XCP_MEMORY);
    } else {
        static const pd_xcp_list_t none = {{0u, 0u}, 0u, 1u, 0u, 0u, 0u, 0u, 0u};
        for (k = 0u; k < count; k++) {
            x->lists[k] = none;
        }
        x->list_count = (uint16_t)count;
        (void)answer(x, 1u);
    }
}

static void allocate_tables(pd_xcp_t *x, uint32_t list, uint32_t count)
{
    uint32_t k;
    if (!known_list(x, list) || (x->entry_count != 0u) || (x->lists[list].tables.count != 0u)) {
        refuse(x, PD_XCP_SEQUENCE);
    } else if (count > ((uint32_t)PD_XCP_TABLES - x->table_count)) {
        refuse(x, PD_XCP_MEMORY);
    } else {
        x->lists[list].tables.first = x->table_count;
        x->lists[list].tables.count = (uint16_t)count;
        for (k = 0u; k < count; k++) {
            x->tables[x->table_count + k].first = 0u;
            x->tables[x->table_count + k].count = 0u;
        }
        x->table_count = (uint16_t)(x->table_count + count);
        (void)answer(x, 1u);
    }
}

static pd_xcp_span_t *table_of(pd_xcp_t *x, uint32_t list, uint32_t table)
{
    const bool known = known_list(x, list) && (table < x->lists[list].tables.count);
    return known ? &x->tables[x->lists[list].tables.first + table] : NULL;
}

static void allocate_entries(pd_xcp_t *x, uint32_t list, uint32_t table, uint32_t count)
{
    pd_xcp_span_t *span = table_of(x, list, table);
    uint32_t k;
    if ((span == NULL) || (span->count != 0u)) {
        refuse(x, PD_XCP_SEQUENCE);
    } else if (count > ((uint32_t)PD_XCP_ENTRIES - x->entry_count)) {
        refuse(x, PD_XCP_MEMORY);
    } else {
        span->first = x->entry_count;
        span->count = (uint16_t)count;
        for (k = 0u; k < count; k++) {
            x->entries[x->entry_count + k].bytes = 0u;
        }
        x->entry_count = (uint16_t)(x->entry_count + count);
        (void)answer(x, 1u);
    }
}

static void point_at_entry(pd_xcp_t *x, uint32_t list, uint32_t table, uint32_t entry)
{
    const pd_xcp_span_t *span = table_of(x, list, table);
    if ((span == NULL) || (entry >= span->count)) {
        refuse(x, PD_XCP_RANGE);
    } else {
        x->at_entry = (uint16_t)(span->first + entry);
        x->end_entry = (uint16_t)(span->first + span->count);
        (void)answer(x, 1u);
    }
}

static void write_entry(pd_xcp_t *x, uint32_t bytes, uint8_t extension, uint32_t address)
{
    if (x->at_entry >= x->end_entry) {
        refuse(x, PD_XCP_DAQ_CONFIG);
    } else if ((bytes == 0u) || (bytes > (uint32_t)LONGEST_ENTRY)
               || (x->board->reach(x->board->user, extension, address, bytes, false) == NULL)) {
        refuse(x, PD_XCP_RANGE);
    } else {
        pd_xcp_entry_t *entry = &x->entries[x->at_entry];
        entry->address = address;
        entry->extension = extension;
        entry->bytes = (uint8_t)bytes;
        x->at_entry++;
        (void)answer(x, 1u);
    }
}

static uint32_t bytes_of(const pd_xcp_t *x, const pd_xcp_list_t *list, uint32_t table)
{
    const pd_xcp_span_t *span = &x->tables[list->tables.first + table];
    uint32_t k, bytes = 1u + (((table == 0u) && (list->stamped != 0u)) ? (uint32_t)TIME_BYTES : 0u);
    for (k = 0u; k < span->count; k++) {
        bytes += x->entries[span->first + k].bytes;
    }
    return bytes;
}

/* Whether all packets of a list are short enough, and their numbers are in place. */
static bool can_run(const pd_xcp_t *x, const pd_xcp_list_t *list)
{
    uint32_t k, j;
    const uint32_t end = (uint32_t)list->tables.first + list->tables.count;
    bool good = (list->tables.count > 0u) && (end < (uint32_t)ABSOLUTE_TABLES);
    for (k = 0u; k < list->tables.count; k++) {
        const pd_xcp_span_t *span = &x->tables[list->tables.first + k];
        if (bytes_of(x, list, k) > x->max_dto) {
            good = false;
        }
        for (j = 0u; j < span->count; j++) {
            if (x->entries[span->first + j].bytes == 0u) {
                good = false;
            }
        }
    }
    return good;
}

static void start_list(pd_xcp_list_t *list)
{
    list->running = 1u;
    list->selected = 0u;
    list->waited = (uint8_t)(list->every - 1u); /* the next event gives the first sample */
}

static void clear_list(pd_xcp_t *x, uint32_t list)
{
    uint32_t k, j;
    if (!known_list(x, list)) {
        refuse(x, PD_XCP_RANGE);
        return;
    }
    x->lists[list].running = 0u;
    x->lists[list].selected = 0u;
    for (k = 0u; k < x->lists[list].tables.count; k++) {
        const pd_xcp_span_t *span = &x->tables[x->lists[list].tables.first + k];
        for (j = 0u; j < span->count; j++) {
            x->entries[span->first + j].bytes = 0u;
        }
    }
    (void)answer(x, 1u);
}

static void set_list_mode(pd_xcp_t *x, const uint8_t *packet)
{
    const uint32_t list = word_at(packet + 2);
    if (!known_list(x, list) || (word_at(packet + 4) != 0u)) {
        refuse(x, PD_XCP_RANGE);
    } else if ((packet[1] & 0x2Fu) != 0u) {
        refuse(x, PD_XCP_DAQ_CONFIG); /* neither stimulation nor packets without a number */
    } else if (x->lists[list].running != 0u) {
        refuse(x, PD_XCP_DAQ_ACTIVE);
    } else {
        x->lists[list].stamped = ((packet[1] & 0x10u) != 0u) ? 1u : 0u;
        x->lists[list].event = 0u;
        x->lists[list].every = (packet[6] == 0u) ? 1u : packet[6];
        x->lists[list].priority = packet[7];
        (void)answer(x, 1u);
    }
}

static void get_list_mode(pd_xcp_t *x, uint32_t list)
{
    if (!known_list(x, list)) {
        refuse(x, PD_XCP_RANGE);
    } else {
        const pd_xcp_list_t *one = &x->lists[list];
        uint8_t *a = answer(x, 8u);
        a[1] = (uint8_t)(((one->stamped != 0u) ? 0x10u : 0u) | ((one->running != 0u) ? 0x40u : 0u)
                         | ((one->selected != 0u) ? 0x01u : 0u));
        put_word(a + 4, one->event);
        a[6] = one->every;
        a[7] = one->priority;
    }
}

static void start_stop_list(pd_xcp_t *x, uint8_t mode, uint32_t list)
{
    if (!known_list(x, list) || (mode > 2u)) {
        refuse(x, PD_XCP_RANGE);
    } else if ((mode != 0u) && !can_run(x, &x->lists[list])) {
        refuse(x, PD_XCP_DAQ_CONFIG);
    } else {
        uint8_t *a = answer(x, 2u);
        a[1] = (uint8_t)x->lists[list].tables.first;
        if (mode == 1u) {
            start_list(&x->lists[list]);
        } else if (mode == 2u) {
            x->lists[list].selected = 1u;
        } else {
            x->lists[list].running = 0u;
        }
    }
}

static void start_stop_all(pd_xcp_t *x, uint8_t mode)
{
    uint16_t k;
    if (mode > 2u) {
        refuse(x, PD_XCP_RANGE);
        return;
    }
    for (k = 0u; k < x->list_count; k++) {
        pd_xcp_list_t *list = &x->lists[k];
        if (mode == 0u) {
            list->running = 0u;
            list->selected = 0u;
        } else if (list->selected != 0u) {
            if (mode == 1u) {
                start_list(list);
            } else {
                list->running = 0u;
                list->selected = 0u;
            }
        } else {
            /* it is not meant */
        }
    }
    (void)answer(x, 1u);
}

static void read_entry(pd_xcp_t *x)
{
    if (x->at_entry >= x->end_entry) {
        refuse(x, PD_XCP_DAQ_CONFIG);
    } else {
        const pd_xcp_entry_t *entry = &x->entries[x->at_entry];
        uint8_t *a = answer(x, 8u);
        a[1] = 0xFFu;
        a[2] = entry->bytes;
        a[3] = entry->extension;
        put_long(a + 4, entry->address);
        x->at_entry++;
    }
}

static void describe_samples(pd_xcp_t *x)
{
    uint8_t *a = answer(x, 8u);
    a[1] = 0x93u; /* lists on request, rates that are divided, times, an event where samples are lost */
    put_word(a + 2, x->list_count);
    put_word(a + 4, 1u);
}

static void describe_resolution(pd_xcp_t *x)
{
    uint8_t *a = answer(x, 8u);
    uint32_t ticks;
    const uint8_t unit = time_unit(x->board->tick_ns, &ticks);
    a[1] = 1u;
    a[2] = (uint8_t)LONGEST_ENTRY;
    a[3] = 1u;
    a[5] = (uint8_t)((uint32_t)TIME_BYTES | ((uint32_t)unit << 4));
    put_word(a + 6, ticks);
}

static void describe_event(pd_xcp_t *x, uint32_t event)
{
    uint8_t *a;
    uint32_t ticks;
    uint8_t unit;
    if (event != 0u) {
        refuse(x, PD_XCP_RANGE);
        return;
    }
    a = answer(x, 7u);
    unit = time_unit(x->board->tick_ns, &ticks);
    while (ticks > 0xFFu) {
        ticks /= 10u;
        unit++;
    }
    a[1] = 0x04u;
    a[2] = 0xFFu;
    a[3] = (uint8_t)letters(EVENT_NAME);
    a[4] = (uint8_t)ticks;
    a[5] = unit;
    x->in_description = 2u;
    x->address = 0u;
}

/* Programming. */

static void program(pd_xcp_t *x, pd_program_t step, const uint8_t *data, uint32_t bytes)
{
    pd_xcp_code_t code;
    if (x->board->program == NULL) {
        refuse(x, PD_XCP_UNKNOWN);
    } else if (x->unlocked == 0u) {
        refuse(x, PD_XCP_LOCKED);
    } else if ((step != PD_PROGRAM_START) && (x->programming == 0u)) {
        refuse(x, PD_XCP_SEQUENCE);
    } else {
        code = x->board->program(x->board->user, step, x->address, data, bytes);
        if ((code == PD_XCP_OK) && (step == PD_PROGRAM_START)) {
            uint8_t *a = answer(x, 7u);
            forget_lists(x);
            x->programming = 1u;
            a[3] = (uint8_t)x->max_cto;
        } else {
            settle(x, code);
        }
        if ((code == PD_XCP_OK) && (step == PD_PROGRAM_WRITE)) {
            x->address += bytes;
        }
        if ((code == PD_XCP_OK) && (step == PD_PROGRAM_RESET)) {
            x->connected = 0u;
            x->programming = 0u;
        }
    }
}

static void program_bytes(pd_xcp_t *x, const uint8_t *packet, uint32_t bytes)
{
    if ((uint32_t)packet[1] > (bytes - 2u)) {
        refuse(x, PD_XCP_SYNTAX);
    } else if (packet[1] == 0u) {
        program(x, PD_PROGRAM_END, NULL, 0u);
    } else {
        program(x, PD_PROGRAM_WRITE, packet + 2, packet[1]);
    }
}

/* Least bytes of each command, from 0xC0 on; 0 where it is not known. */
static const uint8_t LEAST[64] = {
    0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, 0, 1, 1, /* C0: maximum program, its processor, its reset */
    2, 8, 1, 6, 5, 4, 1, 4, 0, 1, 1, 1, 1, 2, 4, 4, /* D0: program, clear, start; samples */
    8, 8, 6, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 9, 2, 0, /* E0: lists; downloads */
    3, 0, 0, 8, 8, 2, 8, 3, 3, 0, 2, 1, 1, 1, 1, 2  /* F0: download, checksum, uploads, keys, states, connect */
};

static void memory_command(pd_xcp_t *x, const uint8_t *p, uint32_t bytes)
{
    switch (p[0]) {
    case 0xF6u:
        point_at(x, p[3], long_at(p + 4));
        (void)answer(x, 1u);
        break;
    case 0xF5u:
        upload(x, p[1]);
        break;
    case 0xF4u:
        point_at(x, p[3], long_at(p + 4));
        upload(x, p[1]);
        break;
    case 0xF3u:
        build_checksum(x, long_at(p + 4));
        break;
    case 0xF0u:
        if ((p[1] == 0u) || ((uint32_t)p[1] > (bytes - 2u))) {
            refuse(x, PD_XCP_SYNTAX);
        } else {
            download(x, p + 2, p[1]);
        }
        break;
    case 0xEEu:
        download(x, p + 1, bytes - 1u);
        break;
    default: /* 0xED */
        if ((p[1] == 0u) || ((uint32_t)p[1] > (bytes - 8u))) {
            refuse(x, PD_XCP_SYNTAX);
        } else {
            point_at(x, p[3], long_at(p + 4));
            download(x, p + 8, p[1]);
        }
        break;
    }
}

static void sample_command(pd_xcp_t *x, const uint8_t *p)
{
    const bool configures = ((p[0] >= 0xD3u) && (p[0] <= 0xD6u)) || (p[0] == 0xE1u);
    if (configures && any_running(x) && (p[0] != 0xD6u)) {
        refuse(x, PD_XCP_DAQ_ACTIVE);
        return;
    }
    switch (p[0]) {
    case 0xE3u:
        clear_list(x, word_at(p + 2));
        break;
    case 0xE2u:
        point_at_entry(x, word_at(p + 2), p[4], p[5]);
        break;
    case 0xE1u:
        write_entry(x, p[2], p[3], long_at(p + 4));
        break;
    case 0xE0u:
        set_list_mode(x, p);
        break;
    case 0xDFu:
        get_list_mode(x, word_at(p + 2));
        break;
    case 0xDEu:
        start_stop_list(x, p[1], word_at(p + 2));
        break;
    case 0xDDu:
        start_stop_all(x, p[1]);
        break;
    case 0xDCu: {
        uint8_t *a = answer(x, 8u);
        put_long(a + 4, x->board->ticks(x->board->user));
        break;
    }
    case 0xDBu:
        read_entry(x);
        break;
    case 0xDAu:
        describe_samples(x);
        break;
    case 0xD9u:
        describe_resolution(x);
        break;
    case 0xD7u:
        describe_event(x, word_at(p + 2));
        break;
    case 0xD6u:
        forget_lists(x);
        (void)answer(x, 1u);
        break;
    case 0xD5u:
        allocate_lists(x, word_at(p + 2));
        break;
    case 0xD4u:
        allocate_tables(x, word_at(p + 2), p[4]);
        break;
    default: /* 0xD3 */
        allocate_entries(x, word_at(p + 2), p[4], p[5]);
        break;
    }
}

static void program_command(pd_xcp_t *x, const uint8_t *p, uint32_t bytes)
{
    switch (p[0]) {
    case 0xD2u:
        program(x, PD_PROGRAM_START, NULL, 0u);
        break;
    case 0xD1u:
        program(x, PD_PROGRAM_CLEAR, NULL, long_at(p + 4));
        break;
    case 0xD0u:
        program_bytes(x, p, bytes);
        break;
    case 0xCFu:
        program(x, PD_PROGRAM_RESET, NULL, 0u);
        break;
    case 0xCEu: {
        uint8_t *a = answer(x, 3u);
        a[1] = 0x01u; /* by addresses */
        break;
    }
    default: /* 0xC9 */
        program(x, PD_PROGRAM_WRITE, p + 1, bytes - 1u);
        break;
    }
}

static void general_command(pd_xcp_t *x, const uint8_t *p, uint32_t bytes)
{
    switch (p[0]) {
    case 0xFFu:
        connect(x);
        break;
    case 0xFEu:
        stop_lists(x);
        x->connected = 0u;
        (void)answer(x, 1u);
        break;
    case 0xFDu:
        get_status(x);
        break;
    case 0xFCu:
        refuse(x, PD_XCP_SYNCH);
        break;
    case 0xFBu: {
        uint8_t *a = answer(x, 8u);
        a[7] = 0x10u;
        break;
    }
    case 0xFAu:
        get_id(x, p);
        break;
    case 0xF8u:
        get_seed(x, p);
        break;
    default: /* 0xF7 */
        unlock(x, p, bytes);
        break;
    }
}

void pd_xcp_command(pd_xcp_t *x, const uint8_t *packet, uint32_t bytes)
{
    uint32_t least;
    if ((bytes == 0u) || ((x->connected == 0u) && (packet[0] != 0xFFu))) {
        return; /* who is not connected gets no answer */
    }
    least = (packet[0] >= 0xC0u) ? LEAST[packet[0] - 0xC0u] : 0u;
    if (least == 0u) {
        refuse(x, PD_XCP_UNKNOWN);
    } else if ((bytes < least) || (bytes > x->max_cto)) {
        refuse(x, PD_XCP_SYNTAX);
    } else if (((packet[0] >= 0xF3u) && (packet[0] <= 0xF6u))
               || ((packet[0] >= 0xEDu) && (packet[0] <= 0xF0u))) {
        memory_command(x, packet, bytes);
    } else if ((packet[0] >= 0xD3u) && (packet[0] <= 0xE3u)) {
        sample_command(x, packet);
    } else if (packet[0] < 0xD3u) {
        program_command(x, packet, bytes);
    } else {
        general_command(x, packet, bytes);
    }
}

void pd_xcp_leave(pd_xcp_t *x)
{
    forget_lists(x);
    x->connected = 0u;
    x->programming = 0u;
    x->answer_bytes = 0u;
    x->used = 0u;
}

/* Samples. */

static void put_byte(pd_xcp_t *x, uint8_t byte)
{
    x->queue[(x->head + x->used) % x->queue_bytes] = byte;
    x->used++;
}

static void sample(pd_xcp_t *x, const pd_xcp_list_t *list)
{
    uint32_t table, k, j, needed = 0u;
    for (table = 0u; table < list->tables.count; table++) {
        needed += 2u + bytes_of(x, list, table);
    }
    if (needed > (x->queue_bytes - x->used)) {
        x->lost++;
        x->overload = 1u;
        return;
    }
    for (table = 0u; table < list->tables.count; table++) {
        const pd_xcp_span_t *span = &x->tables[list->tables.first + table];
        const uint32_t bytes = bytes_of(x, list, table);
        put_byte(x, (uint8_t)(bytes & 0xFFu));
        put_byte(x, (uint8_t)(bytes >> 8));
        put_byte(x, (uint8_t)(list->tables.first + table));
        if ((table == 0u) && (list->stamped != 0u)) {
            uint8_t time[TIME_BYTES];
            put_long(time, x->board->ticks(x->board->user));
            for (j = 0u; j < (uint32_t)TIME_BYTES; j++) {
                put_byte(x, time[j]);
            }
        }
        for (k = 0u; k < span->count; k++) {
            const pd_xcp_entry_t *entry = &x->entries[span->first + k];
            const uint8_t *from =
                x->board->reach(x->board->user, entry->extension, entry->address, entry->bytes, false);
            for (j = 0u; j < entry->bytes; j++) {
                put_byte(x, (from != NULL) ? from[j] : 0u);
            }
        }
    }
}

void pd_xcp_event(pd_xcp_t *x, uint16_t event)
{
    uint16_t k;
    for (k = 0u; k < x->list_count; k++) {
        pd_xcp_list_t *list = &x->lists[k];
        if ((list->running != 0u) && (list->event == event)) {
            list->waited++;
            if (list->waited >= list->every) {
                list->waited = 0u;
                sample(x, list);
            }
        }
    }
}

uint32_t pd_xcp_next(pd_xcp_t *x, uint8_t *packet, uint32_t room)
{
    uint32_t bytes = x->answer_bytes, k;
    if (bytes != 0u) {
        if (bytes > room) {
            return 0u; /* samples must not overtake it */
        }
        for (k = 0u; k < bytes; k++) {
            packet[k] = x->answer[k];
        }
        x->answer_bytes = 0u;
        return bytes;
    }
    if ((x->overload != 0u) && (room >= 2u)) {
        x->overload = 0u;
        packet[0] = 0xFDu; /* an event: samples were lost */
        packet[1] = 0x05u;
        return 2u;
    }
    if (x->used < 2u) {
        return 0u;
    }
    bytes = (uint32_t)x->queue[x->head] | ((uint32_t)x->queue[(x->head + 1u) % x->queue_bytes] << 8);
    if (bytes > room) {
        return 0u;
    }
    for (k = 0u; k < bytes; k++) {
        packet[k] = x->queue[(x->head + 2u + k) % x->queue_bytes];
    }
    x->head = (x->head + 2u + bytes) % x->queue_bytes;
    x->used -= 2u + bytes;
    return bytes;
}
