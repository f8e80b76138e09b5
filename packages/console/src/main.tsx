import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router-dom';
import { Console } from './Console.js';
import './console.css';

createRoot(document.querySelector('#root') as HTMLElement).render(
  <StrictMode>
    <BrowserRouter basename="/console">
      <Console />
    </BrowserRouter>
  </StrictMode>,
);
