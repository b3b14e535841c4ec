/* The interface of the made-up Saltgrass Runtime 4. */
#ifdef _WIN32
#define SG_API __declspec(dllexport)
#else
#define SG_API __attribute__((visibility("default")))
#endif

SG_API int sg_clamp(int value, int least, int most);              /* core */
SG_API int sg_tide_height(int hour);                              /* tide: centimetres above chart datum */
SG_API void sg_chart_bar(char *text, int size, int value, int of); /* chart: a bar of at most size - 1 characters */
SG_API const char *sg_zone_name(void);                            /* zone */
