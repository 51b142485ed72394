/* Types and constants of FMI 3.0 that a unit for co-simulation has in its functions, written from the standard's text
 * (sections 2.2 and 4.2). */
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#if defined _WIN32
#define FMI3_Export __declspec(dllexport)
#else
#define FMI3_Export __attribute__((visibility("default")))
#endif

#define fmi3Version "3.0"
#define fmi3False false
#define fmi3True true

typedef void *fmi3Instance;
typedef void *fmi3InstanceEnvironment;
typedef void *fmi3FMUState;
typedef uint32_t fmi3ValueReference;
typedef float fmi3Float32;
typedef double fmi3Float64;
typedef int8_t fmi3Int8;
typedef uint8_t fmi3UInt8;
typedef int16_t fmi3Int16;
typedef uint16_t fmi3UInt16;
typedef int32_t fmi3Int32;
typedef uint32_t fmi3UInt32;
typedef int64_t fmi3Int64;
typedef uint64_t fmi3UInt64;
typedef bool fmi3Boolean;
typedef const char *fmi3String;
typedef uint8_t fmi3Byte;
typedef const fmi3Byte *fmi3Binary;
typedef bool fmi3Clock;

typedef enum { fmi3OK, fmi3Warning, fmi3Discard, fmi3Error, fmi3Fatal } fmi3Status;
typedef enum { fmi3Independent, fmi3Constant, fmi3Fixed, fmi3Tunable, fmi3Discrete, fmi3Dependent } fmi3DependencyKind;
typedef enum { fmi3IntervalNotYetKnown, fmi3IntervalUnchanged, fmi3IntervalChanged } fmi3IntervalQualifier;

typedef void (*fmi3LogMessageCallback)(fmi3InstanceEnvironment environment, fmi3Status status, fmi3String category,
                                       fmi3String message);
typedef void (*fmi3ClockUpdateCallback)(fmi3InstanceEnvironment environment);
typedef void (*fmi3IntermediateUpdateCallback)(fmi3InstanceEnvironment environment, fmi3Float64 time,
                                               fmi3Boolean set_requested,
    fmi3Boolean get_allowed, fmi3Boolean step_finished, fmi3Boolean can_return_early, fmi3Boolean *return_requested,
    fmi3Float64 *return_time);
typedef void (*fmi3LockPreemptionCallback)(void);
typedef void (*fmi3UnlockPreemptionCallback)(void);
