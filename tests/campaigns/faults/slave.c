/* What guided inputs are given to: the program of a stand-in board, behind its text. The first three bytes choose link
 * and lengths of packets, the rest are operations: 0 to 199 so many bytes of the link, 200 to 229 a tick, others the
 * link's turn to give. */
#include <stdio.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static const int lengths[] = {8, 9, 64, 255};
    static const int samples[] = {8, 9, 64, 1400};
    static double v[sizeof controls / sizeof controls[0]], in[256], signals[1024], out[256];
    static uint8_t flash_bytes[512];
    pd_flash_t flash = {flash_bytes, sizeof flash_bytes, 0u, 0, 0, {0u, 0u}, 0u};
    size_t at = 3;
    pd_image_t *c;
    if (size < 3) return 0;
    c = (pd_image_t *)malloc(sizeof *c);
    if (!c) abort();
    if (data[0] & 8u) flash.secret[0] = 7u;
    memcpy(v, controls, sizeof controls);
    pd_ctl_init(c, v);
    pd_image_join(c, &flash, data[0] % 3, lengths[data[1] % 4], samples[data[2] % 4]);
    while (at < size) {
        const uint8_t what = data[at++];
        if (what < 200u) {
            /* A copy of its own, so that reading beyond its end is seen. */
            const size_t count = what < size - at ? what : size - at;
            uint8_t *bytes = (uint8_t *)malloc(count ? count : 1u);
            if (!bytes) abort();
            memcpy(bytes, data + at, count);
            pd_image_take(c, bytes, (int)count);
            free(bytes);
            at += count;
        } else if (what < 230u) {
            pd_ctl_tick(c, in, signals, out);
        } else {
            const int room = what == 255u ? 1500 : 4 * (what - 229);
            uint8_t *bytes = (uint8_t *)malloc((size_t)room);
            if (!bytes) abort();
            if (pd_image_give(c, bytes, room) > room) abort();
            free(bytes);
        }
    }
    free(c);
    return 0;
}
