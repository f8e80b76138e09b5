export { MovableClock } from './movableClock.js';
export { type ApplicationFunctions, type ReceivedRequest, StandInApplication } from './standInApplication.js';
export { type ClientWish, TestClient, type TestUser, type WaitOptions } from './testClient.js';
export { TestService, type TestServiceOptions } from './testService.js';
