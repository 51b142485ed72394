/* Who may load a board: a seed that is answered by its SipHash under a key that both know. */
/* SipHash-2-4 of one number. Aumasson, Bernstein: SipHash, a fast short-input PRF (2012), section 2. */
static uint64_t pd_turned(uint64_t x, uint32_t by)
{
    return (x << by) | (x >> (64u - by));
}

static void pd_sip_round(uint64_t *v)
{
    v[0] += v[1]; v[1] = pd_turned(v[1], 13u); v[1] ^= v[0]; v[0] = pd_turned(v[0], 32u);
    v[2] += v[3]; v[3] = pd_turned(v[3], 16u); v[3] ^= v[2];
    v[0] += v[3]; v[3] = pd_turned(v[3], 21u); v[3] ^= v[0];
    v[2] += v[1]; v[1] = pd_turned(v[1], 17u); v[1] ^= v[2]; v[2] = pd_turned(v[2], 32u);
}

uint64_t pd_keyed(const uint64_t *key, uint64_t number)
{
    uint64_t v[4] = {key[0] ^ UINT64_C(0x736f6d6570736575), key[1] ^ UINT64_C(0x646f72616e646f6d),
                     key[0] ^ UINT64_C(0x6c7967656e657261), key[1] ^ UINT64_C(0x7465646279746573)};
    const uint64_t words[2] = {number, UINT64_C(8) << 56};
    int k;
    for (k = 0; k < 2; k++) {
        v[3] ^= words[k];
        pd_sip_round(v); pd_sip_round(v);
        v[0] ^= words[k];
    }
    v[2] ^= 0xFFu;
    for (k = 0; k < 4; k++) pd_sip_round(v);
    return v[0] ^ v[1] ^ v[2] ^ v[3];
}

/* The next seed, and whether a key answers the last; each is good for one try. */
static void pd_next_seed(const uint64_t *secret, uint64_t *seeds, uint64_t *seed)
{
    *seed = pd_keyed(secret, ~(*seeds)++) & UINT64_C(0xFFFFFFFFFFFF);
}

static void pd_give_seed(const uint64_t *secret, uint64_t *seeds, uint64_t *seed, uint8_t *bytes)
{
    int k;
    pd_next_seed(secret, seeds, seed);
    for (k = 0; k < PD_XCP_SEED; k++) bytes[k] = (uint8_t)(*seed >> (8 * k));
}

static bool pd_key_fits(const uint64_t *secret, uint64_t *seeds, uint64_t *seed, const uint8_t *key, uint32_t bytes)
{
    const uint64_t due = pd_keyed(secret, *seed);
    uint32_t k, differs = bytes ^ (uint32_t)PD_XCP_SEED;
    for (k = 0; k < bytes && k < (uint32_t)PD_XCP_SEED; k++)
        differs |= (uint32_t)key[k] ^ (uint32_t)((due >> (8u * k)) & 0xFFu);
    pd_next_seed(secret, seeds, seed);
    return differs == 0u;
}
