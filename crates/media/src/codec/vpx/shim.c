/* A few calls around libvpx, so that its structures are laid out by its own headers. */
#include <stddef.h>
#include <stdlib.h>
#include <vpx/vp8dx.h>
#include <vpx/vpx_decoder.h>

struct porter_vpx_picture {
    unsigned width, height, depth, shift_x, shift_y, bytes;
    int matrix, full_range;
    int stride[3];
    const unsigned char *plane[3];
};

void *porter_vpx_open(int nine) {
    vpx_codec_ctx_t *ctx = calloc(1, sizeof *ctx);
    vpx_codec_dec_cfg_t cfg = {1, 0, 0};
    if (!ctx) return NULL;
    if (vpx_codec_dec_init(ctx, nine ? vpx_codec_vp9_dx() : vpx_codec_vp8_dx(), &cfg, 0) != VPX_CODEC_OK) {
        free(ctx);
        return NULL;
    }
    return ctx;
}

int porter_vpx_decode(void *ctx, const unsigned char *data, unsigned len) {
    return (int)vpx_codec_decode(ctx, data, len, NULL, 0);
}

/* 1: a picture, valid until the next decode. 0: none. */
int porter_vpx_picture(void *ctx, void **iter, struct porter_vpx_picture *out) {
    vpx_image_t *img = vpx_codec_get_frame(ctx, (vpx_codec_iter_t *)iter);
    if (!img) return 0;
    out->width = img->d_w;
    out->height = img->d_h;
    out->depth = img->bit_depth ? img->bit_depth : 8;
    out->shift_x = img->x_chroma_shift;
    out->shift_y = img->y_chroma_shift;
    out->bytes = (img->fmt & VPX_IMG_FMT_HIGHBITDEPTH) ? 2 : 1;
    out->matrix = (int)img->cs;
    out->full_range = img->range == VPX_CR_FULL_RANGE;
    for (int i = 0; i < 3; i++) {
        out->stride[i] = img->stride[i];
        out->plane[i] = img->planes[i];
    }
    return 1;
}

void porter_vpx_close(void *ctx) {
    vpx_codec_destroy(ctx);
    free(ctx);
}

/* ---- encoding VP9 */

#include <string.h>
#include <vpx/vp8cx.h>
#include <vpx/vpx_encoder.h>

struct porter_vpx_settings {
    unsigned width, height, rate_num, rate_den, key_every, kilobits;
    /* 0 to 63; 64 and more: the bit rate decides. */
    unsigned quantiser;
    int threads, speed, tile_columns;
    /* As the stream's header names them. */
    int colour_space, full_range;
};

struct porter_vpx_coder {
    vpx_codec_ctx_t ctx;
    vpx_codec_iter_t iter;
    unsigned long deadline;
};

void *porter_vpx_coder_open(const struct porter_vpx_settings *s) {
    vpx_codec_enc_cfg_t cfg;
    struct porter_vpx_coder *c = calloc(1, sizeof *c);
    if (!c) return NULL;
    if (vpx_codec_enc_config_default(vpx_codec_vp9_cx(), &cfg, 0) != VPX_CODEC_OK) goto fail;
    cfg.g_w = s->width;
    cfg.g_h = s->height;
    /* Times are numbers of pictures: the true ones are kept outside. */
    cfg.g_timebase.num = (int)s->rate_den;
    cfg.g_timebase.den = (int)s->rate_num;
    cfg.g_threads = (unsigned)s->threads;
    cfg.g_lag_in_frames = 0;
    cfg.g_error_resilient = 0;
    cfg.kf_mode = VPX_KF_AUTO;
    cfg.kf_max_dist = s->key_every;
    cfg.rc_target_bitrate = s->kilobits;
    if (s->quantiser < 64) {
        cfg.rc_end_usage = VPX_Q;
        cfg.rc_min_quantizer = 0;
        cfg.rc_max_quantizer = 63;
    } else {
        cfg.rc_end_usage = VPX_VBR;
    }
    if (vpx_codec_enc_init(&c->ctx, vpx_codec_vp9_cx(), &cfg, 0) != VPX_CODEC_OK) goto fail;
    vpx_codec_control(&c->ctx, VP8E_SET_CPUUSED, s->speed);
    vpx_codec_control(&c->ctx, VP9E_SET_TILE_COLUMNS, s->tile_columns);
    vpx_codec_control(&c->ctx, VP9E_SET_ROW_MT, 1);
    vpx_codec_control(&c->ctx, VP9E_SET_COLOR_SPACE, s->colour_space);
    vpx_codec_control(&c->ctx, VP9E_SET_COLOR_RANGE, s->full_range);
    if (s->quantiser < 64) vpx_codec_control(&c->ctx, VP8E_SET_CQ_LEVEL, s->quantiser);
    c->deadline = VPX_DL_REALTIME;
    return c;
fail:
    free(c);
    return NULL;
}

/* For one VP8 picture by itself; the quantiser is 0 to 63. */
void *porter_vpx_still_open(unsigned width, unsigned height, unsigned quantiser) {
    vpx_codec_enc_cfg_t cfg;
    struct porter_vpx_coder *c = calloc(1, sizeof *c);
    if (!c) return NULL;
    if (vpx_codec_enc_config_default(vpx_codec_vp8_cx(), &cfg, 0) != VPX_CODEC_OK) goto fail;
    cfg.g_w = width;
    cfg.g_h = height;
    cfg.g_threads = 1;
    cfg.g_lag_in_frames = 0;
    cfg.rc_end_usage = VPX_Q;
    cfg.rc_min_quantizer = quantiser;
    cfg.rc_max_quantizer = quantiser;
    if (vpx_codec_enc_init(&c->ctx, vpx_codec_vp8_cx(), &cfg, 0) != VPX_CODEC_OK) goto fail;
    vpx_codec_control(&c->ctx, VP8E_SET_CPUUSED, 0);
    vpx_codec_control(&c->ctx, VP8E_SET_CQ_LEVEL, quantiser);
    c->deadline = VPX_DL_GOOD_QUALITY;
    return c;
fail:
    free(c);
    return NULL;
}

/* A picture, which has to be a key picture or may be any, or null to say that there are no more. */
int porter_vpx_code(void *coder, unsigned width, unsigned height, const unsigned char *const plane[3],
                    const int stride[3], long long number, int key) {
    struct porter_vpx_coder *c = coder;
    vpx_image_t img;
    c->iter = NULL;
    if (!plane) return (int)vpx_codec_encode(&c->ctx, NULL, number, 1, 0, c->deadline);
    memset(&img, 0, sizeof img);
    if (!vpx_img_wrap(&img, VPX_IMG_FMT_I420, width, height, 1, (unsigned char *)plane[0])) return -1;
    for (int i = 0; i < 3; i++) {
        img.planes[i] = (unsigned char *)plane[i];
        img.stride[i] = stride[i];
    }
    return (int)vpx_codec_encode(&c->ctx, &img, number, 1, key ? VPX_EFLAG_FORCE_KF : 0, c->deadline);
}

/* 1: a packet, valid until the next picture is coded. 0: none. */
int porter_vpx_packet(void *coder, const unsigned char **data, size_t *len, long long *number, int *key) {
    struct porter_vpx_coder *c = coder;
    const vpx_codec_cx_pkt_t *p;
    while ((p = vpx_codec_get_cx_data(&c->ctx, &c->iter))) {
        if (p->kind != VPX_CODEC_CX_FRAME_PKT) continue;
        *data = p->data.frame.buf;
        *len = p->data.frame.sz;
        *number = p->data.frame.pts;
        *key = (p->data.frame.flags & VPX_FRAME_IS_KEY) != 0;
        return 1;
    }
    return 0;
}

void porter_vpx_coder_close(void *coder) {
    struct porter_vpx_coder *c = coder;
    vpx_codec_destroy(&c->ctx);
    free(c);
}
