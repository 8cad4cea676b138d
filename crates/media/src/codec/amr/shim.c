/* The two decoders of AMR, each with its own header; handed on as they are. */
#include <opencore-amrnb/interf_dec.h>
#include <opencore-amrwb/dec_if.h>

void *porter_amr_open(int wide) { return wide ? D_IF_init() : Decoder_Interface_init(); }

void porter_amr_decode(void *ctx, int wide, const unsigned char *frame, short *out, int bad) {
    if (wide) D_IF_decode(ctx, frame, out, bad);
    else Decoder_Interface_Decode(ctx, frame, out, bad);
}

void porter_amr_close(void *ctx, int wide) {
    if (wide) D_IF_exit(ctx);
    else Decoder_Interface_exit(ctx);
}
