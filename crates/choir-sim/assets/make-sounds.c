/* Makes sounds.adts: single frames of stereo AAC-LC, 48 kHz, 96 kbit/s, of which each may follow
   any other, since 937.5 and 1875 Hz fit into a frame of 1024 samples without a rest. In this order:
   the tone in both channels at 0, -1 ... -60 dBFS; silence; the tone left only; right only; opposite
   in the two channels; clipped; low left and high right; high left and low right.
   Debian: apt-get install gcc libvo-aacenc-dev
   gcc make-sounds.c -o make-sounds -lvo-aacenc -lm && ./make-sounds > sounds.adts */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <vo-aacenc/cmnMemory.h>
#include <vo-aacenc/voAAC.h>

/* Levels of the low and of the high tone, left and right. */
static int one(double left, double right, double left_high, double right_high) {
    VO_AUDIO_CODECAPI api;
    VO_MEM_OPERATOR mem = {.Alloc = cmnMemAlloc, .Copy = cmnMemCopy, .Free = cmnMemFree, .Set = cmnMemSet, .Check = cmnMemCheck};
    VO_CODEC_INIT_USERDATA user = {VO_IMF_USERMEMOPERATOR, &mem};
    VO_HANDLE handle = 0;
    AACENC_PARAM params = {48000, 96000, 2, 1};
    voGetAACEncAPI(&api);
    api.Init(&handle, VO_AUDIO_CodingAAC, &user);
    if (api.SetParam(handle, VO_PID_AAC_ENCPARAM, &params) != VO_ERR_NONE) return 1;
    uint8_t last[4096];
    size_t length = 0;
    /* The first frames still carry the start of the tone. */
    for (int frame = 0; frame < 16; frame++) {
        int16_t pcm[2048];
        uint8_t out[4096];
        for (int i = 0; i < 1024; i++) {
            double low = sin(2 * M_PI * 20 * i / 1024 + 0.1), high = sin(2 * M_PI * 40 * i / 1024 + 0.1);
            pcm[2 * i] = (int16_t)fmax(-32767, fmin(32767, 32767 * (left * low + left_high * high)));
            pcm[2 * i + 1] = (int16_t)fmax(-32767, fmin(32767, 32767 * (right * low + right_high * high)));
        }
        VO_CODECBUFFER input = {(VO_PBYTE)pcm, sizeof pcm, 0}, output = {out, sizeof out, 0};
        VO_AUDIO_OUTPUTINFO info;
        api.SetInputData(handle, &input);
        if (api.GetOutputData(handle, &output, &info) != VO_ERR_NONE) continue;
        memcpy(last, out, output.Length);
        length = output.Length;
    }
    fwrite(last, 1, length, stdout);
    return api.Uninit(handle) != VO_ERR_NONE || length == 0;
}

int main(void) {
    int failed = 0;
    double usual = pow(10, -18 / 20.0);
    for (int db = 0; db <= 60; db++) {
        double level = pow(10, -db / 20.0);
        failed |= one(level, level, 0, 0);
    }
    failed |= one(0, 0, 0, 0);
    failed |= one(usual, 0, 0, 0);
    failed |= one(0, usual, 0, 0);
    failed |= one(usual, -usual, 0, 0);
    failed |= one(2.5, 2.5, 0, 0);
    failed |= one(usual, 0, 0, usual / 2);
    failed |= one(0, usual / 2, usual, 0);
    return failed;
}
