/* pd_board.h: a board that runs a controller written by Pendel and can be watched and changed through pd_xcp.h: its
 * state, and a record taken at full rate when something happens. This file is yours, free of any condition.
 *
 * Addresses, by their extension: 0 the controller's struct, from its beginning; 1 what is declared here as
 * pd_board_facts_t, then pd_capture_t, then pd_board_keys_t; 2 the samples of the record; 3 the board's own, by the
 * function `raw`. */
#ifndef PD_BOARD_H
#define PD_BOARD_H

#include "pd_xcp.h"

enum { PD_BOARD_LAYOUT = 2, PD_CAPTURE_CHANNELS = 8 };

typedef enum { PD_IDLE, PD_ENABLED, PD_FAULT } pd_state_t;
typedef enum { PD_ORDER_NONE, PD_ORDER_IDLE, PD_ORDER_ENABLE, PD_ORDER_ACKNOWLEDGE, PD_ORDER_TRIP } pd_order_t;

typedef struct {
    uint32_t layout;
    uint32_t checksum;      /* of the controller's code */
    uint32_t tick_ns;
    uint32_t ticks;         /* since the start */
    uint32_t state;         /* pd_state_t */
    uint32_t order;         /* pd_order_t, written from outside; 0 once it was taken */
    uint32_t refused;       /* orders that could not be followed */
    uint32_t faults;
    uint32_t late;          /* ticks that began late */
    uint32_t lost;          /* samples that were lost */
    uint32_t garbled;       /* bytes that were no packet */
    uint32_t own_bytes;     /* of the controller's struct */
    uint32_t record_bytes;  /* room for the record */
} pd_board_facts_t;

/* The order to enable is refused unless the key of this connection was given before: who sends blindly, such as a page
 * in a browser, does not know it. */
typedef struct {
    uint32_t key;           /* of this connection; each has another */
    uint32_t given;         /* written from outside; 0 once an order was taken */
} pd_board_keys_t;

typedef enum {
    PD_CAPTURE_OFF,
    PD_CAPTURE_FILLS,
    PD_CAPTURE_WAITS,
    PD_CAPTURE_FOLLOWS,
    PD_CAPTURE_FULL
} pd_capture_state_t;
typedef enum { PD_AT_ONCE, PD_RISES, PD_FALLS, PD_LEAVES, PD_ENTERS, PD_CHANGES } pd_condition_t;
typedef enum { PD_UNSIGNED, PD_SIGNED, PD_REAL } pd_number_t;

typedef struct {
    uint32_t address;
    uint32_t extension;
    uint32_t bytes;
    uint32_t number;        /* pd_number_t */
} pd_channel_t;

/* Set all but state, first, at and stride, then order = 1. */
typedef struct {
    uint32_t order;         /* 1 begin, 2 stop; 0 once it was taken */
    uint32_t state;         /* pd_capture_state_t */
    uint32_t every;         /* ticks a sample */
    uint32_t before;        /* samples kept before the event */
    uint32_t samples;       /* in all */
    uint32_t channels;
    uint32_t source;        /* the channel that is watched */
    uint32_t condition;     /* pd_condition_t */
    float low, high;        /* as its words are */
    uint32_t wait;          /* ticks before an event counts */
    uint32_t first;         /* the oldest sample of the ring, once it is full */
    uint32_t at;            /* the tick of the event */
    uint32_t last;          /* the tick of the latest sample */
    uint32_t stride;        /* bytes a sample */
    pd_channel_t channel[PD_CAPTURE_CHANNELS];
} pd_capture_t;

typedef struct {
    pd_board_facts_t facts;
    pd_capture_t capture;
    pd_board_keys_t keys;
    uint8_t *own;                       /* the controller's struct */
    void (*convert)(void *own);         /* NAME_convert, or 0 where no value is live */
    void (*rest)(void *own);            /* sets it back to its start, live values kept */
    uint32_t (*random)(void *user);     /* for keys; 0 where the board has no such number */
    uint8_t *(*raw)(void *user, uint32_t address, uint32_t bytes, bool writes);
    void *user;
    uint8_t *record;
    pd_xcp_t *xcp;
    uint32_t place, filled, left, waited, skipped;
    float before;
    uint8_t seen;
} pd_board_t;

/* Functions for pd_xcp_board_t, whose ``user`` is the board. */
uint8_t *pd_board_reach(void *board, uint8_t extension, uint32_t address, uint32_t bytes, bool writes);
void pd_board_written(void *board, uint8_t extension, uint32_t address, uint32_t bytes);
uint32_t pd_board_ticks(void *board);
void pd_board_joined(void *board);
/* Trip: the power stage goes off until the fault is acknowledged. */
void pd_board_trip(pd_board_t *board);
/* At the end of each tick. */
void pd_board_ticked(pd_board_t *board);

#endif
