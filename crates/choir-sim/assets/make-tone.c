/* Makes tone.adts: two seconds of a soft 937.5 Hz tone, stereo, 48 kHz, AAC-LC at 96 kbit/s.
   937.5 Hz fits 20 times into a frame of 1024 samples, so any frame may follow any other.
   Debian: apt-get install gcc libvo-aacenc-dev
   gcc make-tone.c -o make-tone -lvo-aacenc -lm && ./make-tone > tone.adts */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <vo-aacenc/cmnMemory.h>
#include <vo-aacenc/voAAC.h>

int main(void) {
    VO_AUDIO_CODECAPI api;
    VO_MEM_OPERATOR mem = {.Alloc = cmnMemAlloc, .Copy = cmnMemCopy, .Free = cmnMemFree, .Set = cmnMemSet, .Check = cmnMemCheck};
    VO_CODEC_INIT_USERDATA user = {VO_IMF_USERMEMOPERATOR, &mem};
    VO_HANDLE handle = 0;
    AACENC_PARAM params = {48000, 96000, 2, 1};
    voGetAACEncAPI(&api);
    api.Init(&handle, VO_AUDIO_CodingAAC, &user);
    if (api.SetParam(handle, VO_PID_AAC_ENCPARAM, &params) != VO_ERR_NONE) return 1;
    for (int frame = 0; frame < 104; frame++) {
        int16_t pcm[2048];
        uint8_t out[4096];
        for (int i = 0; i < 1024; i++)
            pcm[2 * i] = pcm[2 * i + 1] = (int16_t)(4000 * sin(2 * M_PI * 20 * i / 1024));
        VO_CODECBUFFER input = {(VO_PBYTE)pcm, sizeof pcm, 0}, output = {out, sizeof out, 0};
        VO_AUDIO_OUTPUTINFO info;
        api.SetInputData(handle, &input);
        if (api.GetOutputData(handle, &output, &info) != VO_ERR_NONE) continue;
        /* The first frames still carry the start of the tone. */
        if (frame >= 10) fwrite(out, 1, output.Length, stdout);
    }
    return api.Uninit(handle) != VO_ERR_NONE;
}
