/* A few calls around libtheora's decoder, so that its structures are laid out by its own headers. */
#include <stdlib.h>
#include <string.h>
#include <theora/theoradec.h>

struct porter_theora {
    th_info info;
    th_dec_ctx *decoder;
};

struct porter_theora_picture {
    /* Of what is shown; the planes begin at its corner. */
    unsigned width, height, shift_x, shift_y;
    int stride[3];
    const unsigned char *plane[3];
};

static ogg_packet packet_of(const unsigned char *data, long len, int first) {
    ogg_packet p;
    memset(&p, 0, sizeof p);
    p.packet = (unsigned char *)data;
    p.bytes = len;
    p.b_o_s = first;
    return p;
}

/* The three heads; NULL where they are none. */
void *porter_theora_open(const unsigned char *const *heads, const long *lens) {
    th_comment comment;
    th_setup_info *setup = NULL;
    struct porter_theora *t = calloc(1, sizeof *t);
    int good = 1;
    if (!t) return NULL;
    th_info_init(&t->info);
    th_comment_init(&comment);
    for (int i = 0; good && i < 3; i++) {
        ogg_packet p = packet_of(heads[i], lens[i], i == 0);
        good = th_decode_headerin(&t->info, &comment, &setup, &p) > 0;
    }
    if (good) t->decoder = th_decode_alloc(&t->info, setup);
    th_comment_clear(&comment);
    th_setup_free(setup);
    if (!t->decoder) {
        th_info_clear(&t->info);
        free(t);
        return NULL;
    }
    return t;
}

/* 0: a picture, 1: the one before once more; below 0: an error. */
int porter_theora_decode(void *ctx, const unsigned char *data, long len) {
    struct porter_theora *t = ctx;
    ogg_packet p = packet_of(data, len, 0);
    return th_decode_packetin(t->decoder, &p, NULL);
}

/* Valid until the next decode; 0 where there is none. */
int porter_theora_picture(void *ctx, struct porter_theora_picture *out) {
    struct porter_theora *t = ctx;
    th_ycbcr_buffer planes;
    if (th_decode_ycbcr_out(t->decoder, planes)) return 0;
    out->width = t->info.pic_width;
    out->height = t->info.pic_height;
    out->shift_x = t->info.pixel_fmt == TH_PF_420 || t->info.pixel_fmt == TH_PF_422;
    out->shift_y = t->info.pixel_fmt == TH_PF_420;
    for (int i = 0; i < 3; i++) {
        unsigned x = t->info.pic_x >> (i ? out->shift_x : 0), y = t->info.pic_y >> (i ? out->shift_y : 0);
        unsigned w = out->width, h = out->height;
        if (i) {
            w = (w + out->shift_x) >> out->shift_x;
            h = (h + out->shift_y) >> out->shift_y;
        }
        if (x + w > (unsigned)planes[i].width || y + h > (unsigned)planes[i].height || planes[i].stride <= 0) return 0;
        out->stride[i] = planes[i].stride;
        out->plane[i] = planes[i].data + (size_t)y * planes[i].stride + x;
    }
    return 1;
}

void porter_theora_close(void *ctx) {
    struct porter_theora *t = ctx;
    th_decode_free(t->decoder);
    th_info_clear(&t->info);
    free(t);
}
