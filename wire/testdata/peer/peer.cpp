// A sender and receiver made of the reference library, for the tests of packages
// wire and norm and for their benchmark:
//
//   peer send    ADDRESS PORT INTERFACE [key=value…] FILE…
//   peer receive ADDRESS PORT INTERFACE [key=value…] DIR
//
// The keys are below, in struct options. Each file's name travels as NORM_INFO.
// It ends by itself: a sender when its flush is over (or its watermark, with
// acks=ID,ID…), a receiver when count objects have come, both when nothing happens
// for so many seconds.
#include <normApi.h>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <map>
#include <sstream>
#include <string>
#include <sys/select.h>
#include <time.h>
#include <vector>

static std::map<std::string, std::string> keys = {
    {"kind", "file"},     // file, data or stream
    {"rate", "100e6"},    // bits a second
    {"segment", "1400"},  // bytes
    {"block", "64"},      // source symbols of a FEC block
    {"parity", "16"},     // parity symbols that can be made for one
    {"ahead", "0"},       // parity symbols sent with each block unasked
    {"id", "1"},          // of this node
    {"cc", "0"},          // congestion control
    {"loss", "0"},        // share of received packets that are lost, in percent
    {"unicast", "0"},     // NACKs go to the sender's own address
    {"acks", ""},         // nodes whose acknowledgement the sender waits for
    {"count", "1"},       // objects to receive
    {"seconds", "60"},    // without an event, the end
    {"debug", "0"},
    {"grtt", "0"},        // first estimate, in seconds
    {"buffer", "64e6"},   // bytes
};

static double number(const char* key) { return atof(keys[key].c_str()); }

static double now() {
    timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec / 1e9;
}

// next waits for an event until a point in time; false when there was none.
static bool next(NormInstanceHandle instance, NormEvent* event, double until) {
    for (;;) {
        if (NormGetNextEvent(instance, event, false)) return true;
        double left = until - now();
        if (left <= 0) return false;
        if (left > 0.1) left = 0.1;
        timeval wait = {(long)left, (long)((left - (long)left) * 1e6)};
        int fd = NormGetDescriptor(instance);
        fd_set set;
        FD_ZERO(&set);
        FD_SET(fd, &set);
        select(fd + 1, &set, nullptr, nullptr, &wait);
    }
}

static std::string base(const std::string& path) { return path.substr(path.rfind('/') + 1); }

static std::string content(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    std::stringstream all;
    all << in.rdbuf();
    return all.str();
}

static int send(NormInstanceHandle instance, NormSessionHandle session, std::vector<std::string> files) {
    NormSetTxRate(session, number("rate"));
    if (number("grtt") > 0) NormSetGrttEstimate(session, number("grtt"));
    NormSetGrttMax(session, 0.3); // a busy machine answers late, and each round of repairs would take some ten times as long
    NormSetTxCacheBounds(session, (NormSize)2e9, 8, 30000);
    if (number("cc")) NormSetCongestionControl(session, true);
    if (!NormStartSender(session, (NormSessionId)now(), (UINT32)number("buffer"), (UINT16)number("segment"), (UINT16)number("block"), (UINT16)number("parity"))) {
        fprintf(stderr, "the sender does not start\n");
        return 1;
    }
    NormSetTxSocketBuffer(session, 4 << 20);
    if (number("ahead")) NormSetAutoParity(session, (unsigned char)number("ahead"));
    std::stringstream acks(keys["acks"]);
    for (std::string id; std::getline(acks, id, ',');) NormAddAckingNode(session, (NormNodeId)atoi(id.c_str()));

    double until = now() + number("seconds");
    std::vector<std::string> held(files.size());
    size_t sent = 0, offset = 0;
    NormObjectHandle last = NORM_OBJECT_INVALID;
    bool flushing = false;
    for (;;) {
        if (keys["kind"] == "stream") {
            if (last == NORM_OBJECT_INVALID) {
                held[0] = content(files[0]);
                last = NormStreamOpen(session, 64 << 20, base(files[0]).c_str(), base(files[0]).size());
            }
            while (offset < held[0].size()) {
                unsigned n = NormStreamWrite(last, held[0].data() + offset, (unsigned)std::min<size_t>(held[0].size() - offset, 1 << 20));
                if (n == 0) break;
                offset += n;
            }
            if (offset == held[0].size() && !flushing) {
                NormStreamClose(last, true);
                flushing = true;
            }
        } else {
            for (; sent < files.size(); sent++) {
                std::string name = base(files[sent]);
                NormObjectHandle o;
                if (keys["kind"] == "data") {
                    held[sent] = content(files[sent]);
                    o = NormDataEnqueue(session, held[sent].data(), held[sent].size(), name.c_str(), name.size());
                } else {
                    o = NormFileEnqueue(session, files[sent].c_str(), name.c_str(), name.size());
                }
                if (o == NORM_OBJECT_INVALID) break;
                last = o;
            }
            if (sent == files.size() && !flushing) {
                if (!keys["acks"].empty()) NormSetWatermark(session, last);
                flushing = true;
            }
        }
        NormEvent event;
        if (!next(instance, &event, until)) {
            fprintf(stderr, "time is up\n");
            return 1;
        }
        until = now() + number("seconds");
        switch (event.type) {
        case NORM_TX_WATERMARK_COMPLETED: {
            NormAckingStatus status;
            NormNodeId id = NORM_NODE_NONE;
            while (NormGetNextAckingNode(session, &id, &status)) printf("ack %u %s\n", id, status == NORM_ACK_SUCCESS ? "yes" : "no");
            if (keys["kind"] != "stream") return 0;
            break;
        }
        case NORM_TX_FLUSH_COMPLETED:
            if (flushing && keys["acks"].empty() && keys["kind"] != "stream") return 0;
            break;
        case NORM_TX_OBJECT_PURGED:
            if (keys["kind"] == "stream") return 0;
            break;
        default:
            break;
        }
    }
}

static int receive(NormInstanceHandle instance, NormSessionHandle session, const std::string& dir) {
    NormSetCacheDirectory(instance, (dir + "/").c_str());
    if (number("unicast")) NormSetDefaultUnicastNack(session, true);
    if (number("loss") > 0) NormSetRxLoss(session, number("loss"));
    NormSetRxCacheLimit(session, 30000);
    if (!NormStartReceiver(session, (UINT32)number("buffer"))) return 1;
    NormSetRxSocketBuffer(session, 8 << 20);
    NormSetDefaultSyncPolicy(session, NORM_SYNC_ALL);
    printf("listening\n");
    fflush(stdout);

    double until = now() + number("seconds");
    int left = (int)number("count");
    std::map<NormObjectHandle, FILE*> streams;
    auto drain = [&](NormObjectHandle o) {
        char b[65536];
        for (;;) {
            unsigned n = sizeof b;
            bool sound = NormStreamRead(o, b, &n);
            if (!sound) {
                fprintf(stderr, "the stream is broken\n");
                continue;
            }
            if (n == 0) return;
            if (!streams[o]) streams[o] = fopen((dir + "/stream").c_str(), "wb");
            fwrite(b, 1, n, streams[o]);
        }
    };
    for (NormEvent event; left > 0;) {
        if (!next(instance, &event, until)) {
            fprintf(stderr, "time is up, %d objects are missing\n", left);
            return 1;
        }
        until = now() + number("seconds");
        NormObjectHandle o = event.object;
        auto named = [&] {
            std::vector<char> info(NormObjectGetInfoLength(o));
            NormObjectGetInfo(o, info.data(), info.size());
            return dir + "/" + std::string(info.begin(), info.end());
        };
        switch (event.type) {
        case NORM_RX_OBJECT_UPDATED:
            if (NormObjectGetType(o) == NORM_OBJECT_STREAM) drain(o);
            break;
        case NORM_RX_OBJECT_COMPLETED:
            switch (NormObjectGetType(o)) {
            case NORM_OBJECT_FILE:
                NormFileRename(o, named().c_str());
                break;
            case NORM_OBJECT_DATA: {
                std::ofstream out(named(), std::ios::binary);
                out.write(NormDataAccessData(o), NormObjectGetSize(o));
                break;
            }
            case NORM_OBJECT_STREAM:
                drain(o);
                if (streams[o]) fclose(streams[o]);
                break;
            default:
                break;
            }
            left--;
            break;
        case NORM_RX_OBJECT_ABORTED:
            fprintf(stderr, "an object was aborted\n");
            break;
        default:
            break;
        }
    }
    printf("complete\n");
    fflush(stdout);
    // Stay for the sender's last questions.
    NormEvent event;
    for (double end = now() + 2; next(instance, &event, end);) {}
    return 0;
}

int main(int argc, char** argv) {
    if (argc < 6) return 2;
    std::vector<std::string> rest;
    for (int i = 5; i < argc; i++) {
        std::string a = argv[i];
        size_t eq = a.find('=');
        if (eq != std::string::npos && keys.count(a.substr(0, eq))) keys[a.substr(0, eq)] = a.substr(eq + 1);
        else rest.push_back(a);
    }
    NormInstanceHandle instance = NormCreateInstance();
    NormSessionHandle session = NormCreateSession(instance, argv[2], (UINT16)atoi(argv[3]), (NormNodeId)number("id"));
    NormSetMulticastInterface(session, argv[4]);
    NormSetTTL(session, std::string(argv[4]) == "lo" ? 0 : 1);
    NormSetRxPortReuse(session, true);
    NormSetMulticastLoopback(session, true);
    NormSetDebugLevel((unsigned)number("debug"));
    int code = std::string(argv[1]) == "send" ? send(instance, session, rest) : receive(instance, session, rest.at(0));
    NormDestroyInstance(instance);
    return code;
}
