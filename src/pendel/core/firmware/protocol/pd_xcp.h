/* pd_xcp.h: slave of the measurement and calibration protocol ASAM MCD-1 XCP 1.x: reading and writing memory,
 * samples at the controller's ticks, and programming. Packets only: how a link frames them is in pd_link.h.
 * This file is yours, free of any condition.
 *
 * Call pd_xcp_command for each packet that arrives, pd_xcp_event at the end of each tick, and pd_xcp_next for as
 * long as it gives packets to send. The three must not interrupt each other, nor the controller's tick. */
#ifndef PD_XCP_H
#define PD_XCP_H

#include <stdbool.h>
#include <stdint.h>

enum {
    PD_XCP_LISTS = 8,       /* of samples, each at its own rate */
    PD_XCP_TABLES = 64,     /* packets of one sample, over all lists */
    PD_XCP_ENTRIES = 256,   /* numbers in all packets */
    PD_XCP_ANSWER = 255,    /* bytes of the longest answer */
    PD_XCP_SEED = 6
};

/* Steps of programming, in their order. */
typedef enum { PD_PROGRAM_START, PD_PROGRAM_CLEAR, PD_PROGRAM_WRITE, PD_PROGRAM_END, PD_PROGRAM_RESET } pd_program_t;

/* Codes of refusal, as the standard numbers them. */
typedef enum {
    PD_XCP_OK = 0xFF,
    PD_XCP_SYNCH = 0x00,
    PD_XCP_DAQ_ACTIVE = 0x11,
    PD_XCP_UNKNOWN = 0x20,
    PD_XCP_SYNTAX = 0x21,
    PD_XCP_RANGE = 0x22,
    PD_XCP_PROTECTED = 0x23,
    PD_XCP_DENIED = 0x24,
    PD_XCP_LOCKED = 0x25,
    PD_XCP_SEQUENCE = 0x29,
    PD_XCP_DAQ_CONFIG = 0x2A,
    PD_XCP_MEMORY = 0x30,
    PD_XCP_GENERIC = 0x31,
    PD_XCP_VERIFY = 0x32
} pd_xcp_code_t;

/* What the board offers. Functions that are 0 are not offered. */
typedef struct {
    void *user;
    const char *id;         /* what the board says of itself */
    uint32_t tick_ns;       /* the sampling period */
    /* Where so many bytes are, or 0 where they must not be read, or written. */
    uint8_t *(*reach)(void *user, uint8_t extension, uint32_t address, uint32_t bytes, bool writes);
    void (*written)(void *user, uint8_t extension, uint32_t address, uint32_t bytes);
    uint32_t (*ticks)(void *user);
    /* PD_XCP_OK, or why not. */
    pd_xcp_code_t (*program)(void *user, pd_program_t step, uint32_t address, const uint8_t *data, uint32_t bytes);
    /* Fills the seed (PD_XCP_SEED bytes) for a key; and whether a key fits the last one. */
    void (*seed)(void *user, uint8_t *seed);
    bool (*unlocks)(void *user, const uint8_t *key, uint32_t bytes);
    /* A master has connected. */
    void (*joined)(void *user);
} pd_xcp_board_t;

typedef struct {
    uint32_t address;
    uint8_t extension;
    uint8_t bytes;
} pd_xcp_entry_t;

typedef struct {
    uint16_t first;
    uint16_t count;
} pd_xcp_span_t;

typedef struct {
    pd_xcp_span_t tables;
    uint16_t event;
    uint8_t every;
    uint8_t waited;
    uint8_t priority;
    uint8_t stamped;
    uint8_t selected;
    uint8_t running;
} pd_xcp_list_t;

typedef struct {
    const pd_xcp_board_t *board;
    uint8_t *queue;         /* packets of samples that wait: two bytes of length, then the packet; a ring */
    uint32_t queue_bytes;
    uint32_t head, used;
    uint32_t lost;          /* samples that found no room */
    uint8_t overload;       /* and were not reported yet */
    uint8_t connected;
    uint8_t programming;
    uint8_t unlocked;
    uint16_t max_cto, max_dto;
    uint8_t answer[PD_XCP_ANSWER];
    uint16_t answer_bytes;
    uint32_t address;       /* where the next upload or download begins */
    uint8_t extension;
    uint16_t list_count, table_count, entry_count;
    uint16_t at_entry, end_entry; /* where the next entry is written */
    uint8_t in_description; /* what an upload reads: 1 the board's id, 2 the event's name, 0 memory */
    pd_xcp_list_t lists[PD_XCP_LISTS];
    pd_xcp_span_t tables[PD_XCP_TABLES];
    pd_xcp_entry_t entries[PD_XCP_ENTRIES];
} pd_xcp_t;

/* Not connected, nothing measured. Packets are at most so long: commands and answers 8 to 255 bytes, samples 8 and
 * more. */
void pd_xcp_init(pd_xcp_t *x, const pd_xcp_board_t *board, uint8_t *queue, uint32_t queue_bytes, uint16_t max_cto,
                 uint16_t max_dto);
void pd_xcp_command(pd_xcp_t *x, const uint8_t *packet, uint32_t bytes);
/* The master has gone: nobody is connected, and nothing waits to be sent. */
void pd_xcp_leave(pd_xcp_t *x);
void pd_xcp_event(pd_xcp_t *x, uint16_t event);
/* The next packet to send, an answer before samples; returns its bytes, or 0 where there is none. */
uint32_t pd_xcp_next(pd_xcp_t *x, uint8_t *packet, uint32_t room);
/* CRC-32 as of IEEE 802.3, reflected; begin with 0. */
uint32_t pd_crc32(uint32_t crc, const uint8_t *data, uint32_t bytes);

#endif
