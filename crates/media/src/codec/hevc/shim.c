/* A few calls around libde265, so that its types are those of its own header. */
#include <libde265/de265.h>
#include <stddef.h>

struct porter_de265_picture {
    long long key;
    /* 0: gray, 1: 4:2:0, 2: 4:2:2, 3: 4:4:4. */
    int chroma, width[3], height[3], bits[3];
    /* Between rows, in bytes; and the bytes of a plane that may be read. */
    int stride[3];
    const unsigned char *plane[3];
};

void *porter_de265_open(int threads) {
    de265_decoder_context *d = de265_new_decoder();
    if (d && threads > 1 && de265_start_worker_threads(d, threads) != DE265_OK) {
        de265_free_decoder(d);
        d = NULL;
    }
    return d;
}

/* A unit without the mark in front of it; the picture that begins with it comes out under this key. 0 or an error. */
int porter_de265_push(void *d, const unsigned char *nal, int len, long long key) {
    return de265_push_NAL(d, nal, len, key, 0);
}

/* Nothing follows. */
int porter_de265_end(void *d) { return de265_flush_data(d); }

/* Goes on for a step. 1: call again, 0: it wants more units; below 0: an error, which may be followed by more. */
int porter_de265_step(void *d) {
    int more = 0, err = de265_decode(d, &more);
    if (err == DE265_ERROR_WAITING_FOR_INPUT_DATA) return 0;
    if (err != DE265_OK && err != DE265_ERROR_IMAGE_BUFFER_FULL) return -err;
    return more;
}

/* What it met since it was asked, 0 for nothing; what it says of its own threads and lists is no damage. */
int porter_de265_warning(void *d) {
    for (;;) {
        int w = de265_get_warning(d);
        if (w != DE265_WARNING_NO_WPP_CANNOT_USE_MULTITHREADING && w != DE265_WARNING_WARNING_BUFFER_FULL &&
            w != DE265_WARNING_NUMBER_OF_THREADS_LIMITED_TO_MAXIMUM && w != DE265_WARNING_SPS_MISSING_CANNOT_DECODE_SEI)
            return w;
    }
}

const char *porter_de265_text(int code) { return de265_get_error_text((de265_error)code); }

/* The next picture in the order of showing, valid until the next call; 0 where there is none. */
int porter_de265_picture(void *d, struct porter_de265_picture *out) {
    const struct de265_image *p = de265_get_next_picture(d);
    if (!p) return 0;
    out->key = de265_get_image_PTS(p);
    out->chroma = de265_get_chroma_format(p);
    for (int i = 0; i < (out->chroma ? 3 : 1); i++) {
        out->width[i] = de265_get_image_width(p, i);
        out->height[i] = de265_get_image_height(p, i);
        out->bits[i] = de265_get_bits_per_pixel(p, i);
        out->plane[i] = de265_get_image_plane(p, i, &out->stride[i]);
    }
    return 1;
}

void porter_de265_close(void *d) { de265_free_decoder(d); }
