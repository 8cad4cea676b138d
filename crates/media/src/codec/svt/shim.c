/* A few calls around SVT-AV1, so that its structures are laid out by its own headers. */
#include <stdlib.h>
#include <string.h>
#include <EbSvtAv1Enc.h>

struct porter_svt_settings {
    unsigned width, height, rate_num, rate_den, depth, key_every;
    /* Bits a second; 0: the quantiser of 1 to 63 decides. */
    unsigned bits, quantiser;
    int speed;
    unsigned processors;
    /* Of pictures that look ahead; 0 for a still. */
    unsigned layers;
    /* As H.273 numbers them. */
    unsigned char primaries, transfer, matrix, full_range;
};

struct porter_svt_coder {
    EbComponentType *handle;
    EbSvtIOFormat picture;
    EbBufferHeaderType input;
    EbBufferHeaderType *packet;
};

void porter_svt_close(void *coder) {
    struct porter_svt_coder *c = coder;
    if (c->packet) svt_av1_enc_release_out_buffer(&c->packet);
    if (c->handle) {
        svt_av1_enc_deinit(c->handle);
        svt_av1_enc_deinit_handle(c->handle);
    }
    free(c);
}

/* It is told so once, when its first encoder is opened. */
void porter_svt_quiet(void) { setenv("SVT_LOG", "1", 0); }

void *porter_svt_open(const struct porter_svt_settings *s) {
    EbSvtAv1EncConfiguration cfg;
    struct porter_svt_coder *c = calloc(1, sizeof *c);
    if (!c) return NULL;
    memset(&cfg, 0, sizeof cfg);
    if (svt_av1_enc_init_handle(&c->handle, NULL, &cfg) != EB_ErrorNone) {
        c->handle = NULL;
        goto fail;
    }
    cfg.enc_mode = (int8_t)s->speed;
    cfg.source_width = s->width;
    cfg.source_height = s->height;
    cfg.frame_rate_numerator = s->rate_num;
    cfg.frame_rate_denominator = s->rate_den;
    cfg.encoder_bit_depth = s->depth;
    cfg.encoder_color_format = EB_YUV420;
    /* Closed groups: a key picture, and so many behind it. */
    cfg.intra_refresh_type = SVT_AV1_KF_REFRESH;
    cfg.intra_period_length = (int32_t)s->key_every - 1;
    if (s->layers) {
        cfg.hierarchical_levels = s->layers;
    } else {
        /* One picture by itself: nothing is kept for those behind it. */
        cfg.hierarchical_levels = 3;
        cfg.look_ahead_distance = 0;
        cfg.enable_tpl_la = 0;
    }
    cfg.color_primaries = s->primaries;
    cfg.transfer_characteristics = s->transfer;
    cfg.matrix_coefficients = s->matrix;
    cfg.color_range = s->full_range;
    cfg.logical_processors = s->processors;
    cfg.rate_control_mode = s->bits ? SVT_AV1_RC_MODE_VBR : SVT_AV1_RC_MODE_CQP_OR_CRF;
    if (s->bits) {
        cfg.target_bit_rate = s->bits;
    } else {
        cfg.qp = s->quantiser;
    }
    if (svt_av1_enc_set_parameter(c->handle, &cfg) != EB_ErrorNone) goto fail;
    if (svt_av1_enc_init(c->handle) != EB_ErrorNone) goto fail;
    c->input.size = sizeof c->input;
    c->input.p_buffer = (unsigned char *)&c->picture;
    return c;
fail:
    porter_svt_close(c);
    return NULL;
}

/* The sequence header, to be freed by porter_svt_free_header. */
int porter_svt_header(void *coder, const unsigned char **data, unsigned *len, void **keep) {
    struct porter_svt_coder *c = coder;
    EbBufferHeaderType *header = NULL;
    if (svt_av1_enc_stream_header(c->handle, &header) != EB_ErrorNone || !header) return -1;
    *data = header->p_buffer;
    *len = header->n_filled_len;
    *keep = header;
    return 0;
}

void porter_svt_free_header(void *keep) { svt_av1_enc_stream_header_release(keep); }

/* A picture, or null to say that there are no more. Strides are in samples. */
int porter_svt_code(void *coder, unsigned depth, unsigned width, unsigned height, const unsigned char *const plane[3],
                    const unsigned stride[3], long long number) {
    struct porter_svt_coder *c = coder;
    EbBufferHeaderType *in = &c->input;
    if (!plane) {
        EbBufferHeaderType end;
        memset(&end, 0, sizeof end);
        end.size = sizeof end;
        end.flags = EB_BUFFERFLAG_EOS;
        end.pic_type = EB_AV1_INVALID_PICTURE;
        return (int)svt_av1_enc_send_picture(c->handle, &end);
    }
    c->picture.luma = (unsigned char *)plane[0];
    c->picture.cb = (unsigned char *)plane[1];
    c->picture.cr = (unsigned char *)plane[2];
    c->picture.y_stride = stride[0];
    c->picture.cb_stride = stride[1];
    c->picture.cr_stride = stride[2];
    c->picture.width = width;
    c->picture.height = height;
    c->picture.color_fmt = EB_YUV420;
    c->picture.bit_depth = depth > 8 ? EB_TEN_BIT : EB_EIGHT_BIT;
    in->n_filled_len = width * height * 3 / 2 * (depth > 8 ? 2 : 1);
    in->flags = 0;
    in->pts = number;
    in->pic_type = EB_AV1_INVALID_PICTURE;
    in->p_app_private = NULL;
    in->metadata = NULL;
    return (int)svt_av1_enc_send_picture(c->handle, in);
}

/* 1: a packet, valid until the next call; 3: the last one; 2: there are no more; 0: none yet. With `wait` it waits for one. */
int porter_svt_packet(void *coder, int wait, const unsigned char **data, size_t *len, long long *number, int *key) {
    struct porter_svt_coder *c = coder;
    EbErrorType code;
    if (c->packet) svt_av1_enc_release_out_buffer(&c->packet);
    c->packet = NULL;
    code = svt_av1_enc_get_packet(c->handle, &c->packet, (uint8_t)wait);
    if (code == EB_NoErrorEmptyQueue) return 0;
    if (code != EB_ErrorNone || !c->packet) return -1;
    *data = c->packet->p_buffer;
    *len = c->packet->n_filled_len;
    *number = c->packet->pts;
    *key = c->packet->pic_type == EB_AV1_KEY_PICTURE;
    if (*len == 0 && (c->packet->flags & EB_BUFFERFLAG_EOS)) return 2;
    return (c->packet->flags & EB_BUFFERFLAG_EOS) ? 3 : 1;
}
