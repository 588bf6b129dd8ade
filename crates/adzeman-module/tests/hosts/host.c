/* A program that embeds Lua in ways that the plain interpreters do not: host HOW SCRIPT. */
#include <lua.h>
#include <lualib.h>
#include <lauxlib.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static const char *script;

/* Runs the script; what it returns is left on the stack. */
static int run(lua_State *L) {
  if (luaL_loadfile(L, script) || lua_pcall(L, 0, 1, 0)) {
    fprintf(stderr, "%s\n", lua_tostring(L, -1));
    return 1;
  }
  return 0;
}

static lua_State *opened(void) {
  lua_State *L = luaL_newstate();
  luaL_openlibs(L);
  return L;
}

static void *on_thread(void *failed) {
  lua_State *L = opened();
  if (run(L)) *(int *)failed = 1;
  lua_close(L);
  return NULL;
}

/* Four threads, each with a state of its own. */
static int threads(void) {
  pthread_t all[4];
  int failed[4] = {0};
  for (int i = 0; i < 4; i++) pthread_create(&all[i], NULL, on_thread, &failed[i]);
  int any = 0;
  for (int i = 0; i < 4; i++) { pthread_join(all[i], NULL); any |= failed[i]; }
  return any;
}

/* State after state, until the script of one answers false. */
static int states(void) {
  int failed = 0, goes_on = 1;
  for (int i = 0; i < 1000000 && goes_on && !failed; i++) {
    lua_State *L = opened();
    failed = run(L);
    goes_on = lua_toboolean(L, -1);
    lua_close(L);
  }
  return failed;
}

/* The function that the script returns runs in two copies of the process, and then in this one. */
static int forks(void) {
  lua_State *L = opened();
  int failed = run(L);
  pid_t children[2];
  for (int i = 0; i < 2; i++) {
    children[i] = fork();
    if (children[i] == 0) {
      lua_pushvalue(L, -1);
      failed |= lua_pcall(L, 0, 0, 0);
      lua_close(L);
      _exit(failed);
    }
  }
  for (int i = 0; i < 2; i++) {
    int status = 0;
    waitpid(children[i], &status, 0);
    failed |= status;
  }
  printf("children done\n"); fflush(stdout);
  failed |= lua_pcall(L, 0, 0, 0);
  lua_close(L);
  return failed;
}

static long counted;
static void on_count(lua_State *L, lua_Debug *ar) { (void)L; (void)ar; counted++; }

/* A hook of the host's own, set anew before each call of the function that the script returns, until that answers false. */
static int hooks(void) {
  lua_State *L = opened();
  lua_sethook(L, on_count, LUA_MASKCOUNT, 1000);
  int failed = run(L);
  while (!failed) {
    lua_sethook(L, on_count, LUA_MASKCOUNT, 1000);
    lua_pushvalue(L, -1);
    failed |= lua_pcall(L, 0, 1, 0);
    int goes_on = lua_toboolean(L, -1);
    lua_pop(L, 1);
    if (!goes_on) break;
  }
  printf("hook %s\n", lua_gethook(L) == on_count ? "is the host's" : "is another's");
  printf("counted %s\n", counted > 10 ? "on" : "nothing");
  lua_close(L);
  return failed;
}

static size_t in_use;
static void *allocate(void *ud, void *p, size_t before, size_t size) {
  (void)ud;
  if (p == NULL) before = 0;
  if (size == 0) { in_use -= before; free(p); return NULL; }
  if (in_use - before + size > 64u << 20) return NULL;
  void *q = realloc(p, size);
  if (q) in_use += size - before;
  return q;
}

/* An allocator that counts, and gives no more than 64 MiB. */
static int allocator(void) {
  lua_State *L = lua_newstate(allocate, NULL);
  luaL_openlibs(L);
  int failed = run(L);
  lua_close(L);
  printf("left %zu bytes\n", in_use);
  return failed;
}

static long signals;
static void on_signal(int number) { (void)number; signals++; }

static int resumed(lua_State *T, lua_State *L, int arguments) {
#if LUA_VERSION_NUM >= 504
  int results;
  return lua_resume(T, L, arguments, &results);
#elif LUA_VERSION_NUM >= 502
  return lua_resume(T, L, arguments);
#else
  (void)L;
  return lua_resume(T, arguments);
#endif
}

/* A request: the function that the script returned runs in a coroutine made for it, under a hook that is set anew whenever it goes on.
   Whether it answered true. */
static int served(lua_State *L, int *failed) {
  lua_State *T = lua_newthread(L);
  lua_pushvalue(L, 1);
  lua_xmove(L, T, 1);
  int status;
  do {
    lua_sethook(T, on_count, LUA_MASKCOUNT, 1000);
    status = resumed(T, L, 0);
  } while (status == LUA_YIELD);
  if (status) { fprintf(stderr, "%s\n", lua_tostring(T, -1)); *failed = 1; }
  int goes_on = !status && lua_toboolean(T, -1);
  lua_settop(L, 1);
  return goes_on;
}

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static int is_over;

static void *serves(void *state) {
  int failed = 0;
  while (!failed) {
    pthread_mutex_lock(&lock);
    if (!is_over && !served(state, &failed)) is_over = 1;
    int ends = is_over;
    pthread_mutex_unlock(&lock);
    if (ends) break;
    usleep(2000);
  }
  return NULL;
}

/* Requests, on this thread and on so many others by turns. It has a use of its own for the signal, as of when the script was loaded. */
static int requests(int others) {
  lua_State *L = lua_newstate(allocate, NULL);
  luaL_openlibs(L);
  int failed = run(L);
  signal(SIGURG, on_signal);
  pthread_t all[4];
  for (int i = 0; i < others; i++) pthread_create(&all[i], NULL, serves, L);
  serves(L);
  for (int i = 0; i < others; i++) pthread_join(all[i], NULL);
  printf("%ld signals\n", signals);
  printf("allocator %s\n", lua_getallocf(L, NULL) == allocate ? "is the host's" : "is another's");
  printf("counted %s\n", counted > 10 ? "on" : "nothing");
  lua_close(L);
  printf("left %zu bytes\n", in_use);
  return failed;
}

int main(int argc, char **argv) {
  if (argc < 3) return 2;
  script = argv[2];
  if (!strcmp(argv[1], "threads")) return threads();
  if (!strcmp(argv[1], "states")) return states();
  if (!strcmp(argv[1], "forks")) return forks();
  if (!strcmp(argv[1], "hooks")) return hooks();
  if (!strcmp(argv[1], "allocator")) return allocator();
  if (!strcmp(argv[1], "requests")) return requests(0);
  if (!strcmp(argv[1], "turns")) return requests(2);
  return 2;
}
