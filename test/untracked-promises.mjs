import hooks from 'node:async_hooks';

/**
 * Node's test runner follows each promise from its making to its collection, to tell which test an uncaught error came from. That
 * costs more than most of what is awaited here. Without it such an error fails the file of tests, not the test: a process of its
 * own each, whose other lines say how far it was.
 */
const { createHook } = hooks;
hooks.createHook = () => {
  hooks.createHook = createHook;
  return createHook({});
};
