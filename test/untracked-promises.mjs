import hooks from 'node:async_hooks';

/**
 * Node's test runner follows each promise from its making to its collection, to tell which test an uncaught error came from. That
 * costs more than most of what is awaited here. Without it such an error fails its file of tests, and no single test is named.
 */
const { createHook } = hooks;
hooks.createHook = () => {
  hooks.createHook = createHook;
  return createHook({});
};
