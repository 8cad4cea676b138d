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
