export { MovableClock } from './movableClock.js';
export { type ClientWish, TestClient, type WaitOptions } from './testClient.js';
export { TestService, type TestServiceOptions, type TestUser } from './testService.js';
